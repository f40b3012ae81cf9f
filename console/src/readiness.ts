import type { components } from './schema'

type Schemas = components['schemas']
export type Readiness = Schemas['ReadinessTold']
export type PlaceSheet = Schemas['PlaceSheetTold']
export type Thing = Schemas['ThingTold']
export type Verdict = PlaceSheet['verdict']

/** A mark for each standing, so that colour is never alone. */
export const MARKS: Record<Thing['state'], string> = { done: '✓', doubtful: '▲', missing: '✕', waiting: '◔', locked: '◌', 'not asked': '·' }
/** The same for findings, in the sequence in which they are told. */
export const LEVEL_MARKS: Record<string, string> = { blocker: '✕', caution: '▲', note: '·' }
export const VERDICTS: Record<Verdict, { mark: string; said: string }> = {
  ready: { mark: '✓', said: 'Ready' },
  cautions: { mark: '▲', said: 'Ready, but something needs a look' },
  blocked: { mark: '✕', said: 'Not ready' },
}

interface Way {
  said: string
  to: string
}

/** Where the act is done that helps; nothing where it is done at the store, or only waited for. */
export function wayTo(thing: Thing, app: string, version: string | null, means: Record<string, string>): Way | null {
  const text = thing.findings.map((found) => found.place.split('.')).find((place) => place[0] === 'texts' && place.length > 2)
  const question = thing.findings.filter((found) => found.level !== 'note').map((found) => found.place.split('.')).find((place) => place[0] === 'answers' && place.length > 1)
  const release = version ? `/apps/${app}/releases/${version}` : `/apps/${app}/releases`
  switch (thing.mend) {
    case 'open berth':
    case 'set offer':
      return { said: thing.mend === 'open berth' ? 'Open a place there' : 'Change the offer', to: '/stores' }
    case 'push build':
      return { said: 'Push a build', to: `/apps/${app}/builds` }
    case 'answer questions':
      return { said: 'Answer the questions', to: `/apps/${app}/builds` }
    case 'write text':
      return { said: 'Write it', to: `/apps/${app}/dossier${text ? `?locale=${text[1]}&field=${means[text[2]!] ?? text[2]}` : ''}` }
    case 'send texts':
      return { said: 'Send the texts', to: `/apps/${app}/dossier` }
    case 'write goods':
    case 'send goods': {
      const [, reference] = thing.findings.map((found) => found.place.split('.')).find((place) => place[0] === 'goods' && place.length > 1) ?? []
      return { said: thing.mend === 'send goods' ? 'Send the goods' : 'Enter them', to: `/apps/${app}/dossier/goods${reference ? `?good=${reference}` : ''}` }
    }
    case 'put pictures in':
    case 'send pictures': {
      const [, locale, key] = thing.findings.filter((found) => found.level !== 'note').map((found) => found.place.split('.')).find((place) => place[0] === 'pictures' && place.length > 2) ?? []
      return { said: thing.mend === 'send pictures' ? 'Send the pictures' : 'Put them in', to: `/apps/${app}/dossier/pictures${key ? `?locale=${locale}&class=${key}` : ''}` }
    }
    case 'answer topics':
    case 'send answers':
      return { said: thing.mend === 'send answers' ? 'Send the answers' : 'Answer it', to: `/apps/${app}/dossier/questions${question ? `?question=${question[1]}` : ''}` }
    case 'draft release':
      return { said: 'Draft a release', to: `/apps/${app}/releases` }
    case 'write notes':
      return { said: 'Write the notes', to: `${release}#notes` }
    case 'open trial':
      return { said: 'Hand it to a cohort', to: `/apps/${app}/cohorts` }
    default:
      return null
  }
}

/** What a person reads where the act has no page here. */
export function elsewhere(thing: Thing, store: string): string {
  if (thing.mend === 'look at the store' || thing.mend === 'sign papers') return `This is done on ${store}'s own pages.`
  if (thing.mend === 'decide matters') return 'Say below what was done about each reason.'
  if (thing.mend === 'tick checks') return 'Answer what is asked below, under Checked before every hand-in.'
  if (thing.mend === 'submit') return 'Hand it in below.'
  if (thing.mend === 'go ahead') return 'Give the go-ahead below, or change what it waits for.'
  return ''
}
