import type { components } from './schema'

type Schemas = components['schemas']
export type Pictures = Schemas['PicturesTold']
export type PictureFile = Schemas['PictureFileTold']
export type PictureSet = Schemas['PictureSetTold']
export type StorePictures = Schemas['StorePicturesTold']
export type StoreClass = Schemas['StoreClassTold']
export type StoreSet = Schemas['StoreSetTold']
export type Piece = Schemas['PieceTold']

/** What one store takes of a class, and what it gets there. */
export interface Taker {
  store: StorePictures
  rule: StoreClass
  set?: StoreSet
  own?: PictureSet
}

/** A mark for each state of a set, so that colour is never alone. */
export const SET_MARKS: Record<StoreSet['state'], string> = {
  accepted: '✓', ordered: '◌', 'waits for the review to end': '◔', refused: '✕', 'changed since sent': '◔', complete: '◔', missing: '·',
}
const WORDS: Partial<Record<StoreSet['state'], string>> = { complete: 'not sent', ordered: 'sent, not confirmed yet', missing: 'none there' }

/** Where a set stands at a store, in words. */
export function standing(taker: Taker): string {
  if (!taker.set) return taker.rule.fewest ? `✕ ${taker.rule.fewest} wanted at least` : '· may be left out'
  return `${SET_MARKS[taker.set.state]} ${WORDS[taker.set.state] ?? taker.set.state}`
}

/** What a store gets of a set, in a few words: equal files together. */
export function gets(set: StoreSet): string[] {
  const counts = new Map<string, number>()
  for (const one of set.pieces.filter((piece) => !piece.why)) {
    const cut = Math.round(one.cut * 100)
    const how = one.as_it_is ? 'as they are' : ['made smaller', ...(cut ? [`${cut} % cut off at the edges`] : []), ...(one.flat ? ['on white'] : []), ...(one.file ? [] : ['still being made'])].join(', ')
    const said = `${one.width} × ${one.height} ${one.format}, ${how}`
    counts.set(said, (counts.get(said) ?? 0) + 1)
  }
  return [...counts].map(([said, count]) => `${count} as ${said}`.replace('as they are', count === 1 ? 'as it is' : 'as they are'))
}

/** The class whose pictures serve here, by the store's own name for it. */
export const serving = (taker: Taker): string => taker.store.classes.find((rule) => rule.key === taker.set?.serves)?.title ?? ''

/** Such as ``2.1 MB`` or ``34 kB``. */
export function size(bytes: number): string {
  return bytes < 100_000 ? `${Math.max(1, Math.round(bytes / 1_000))} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`
}

/** Such as ``1440 × 3060, 2.1 MB``. */
export function described(file: PictureFile): string {
  const seconds = file.seconds === null ? '' : `, ${Math.round(file.seconds * 10) / 10} s`
  return `${file.width} × ${file.height}${seconds}, ${size(file.size_bytes)}`
}
