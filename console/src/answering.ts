import { size } from './picturing'
import type { components } from './schema'

type Schemas = components['schemas']
export type Questions = Schemas['QuestionsTold']
export type StoreQuestions = Questions['stores'][number]
export type Question = StoreQuestions['questions'][number]
export type Topic = Questions['topics'][number]
export type Document = Schemas['DocumentTold-Output']
export type Answer = string | number | string[] | Record<string, string[]> | Document

/** Whether an answer is a document. */
export const isDocument = (answer: Answer | null | undefined): answer is Document => typeof answer === 'object' && answer !== null && 'sha256' in answer && typeof answer.sha256 === 'string'

/** How a question is answered: as the catalogue has it, or as one store does. */
export interface Shape {
  form: Topic['form']
  choices: Record<string, string>
  kinds: Record<string, string>
  attributes: Record<string, string>
  lowest?: number
  highest?: number
  formats?: string[]
  largest_bytes?: number
}

const OPEN = '—'

/** A mark for each state of an answer, so that colour is never alone. */
export const ANSWER_MARKS: Record<Question['state'], string> = {
  untouched: '·', begun: '◔', complete: '◔', sent: '◌', 'waits for the review to end': '◔', accepted: '✓', 'changed since sent': '◔', refused: '✕',
}
const WORDS: Partial<Record<Question['state'], string>> = { untouched: 'not answered', begun: 'not answered to the end', complete: 'not sent', sent: 'sent, not confirmed yet' }

/** Where an answer stands at a store, in words. */
export function standing(question: Question): string {
  if (question.state === 'untouched' && !question.surely) return '· asked only if something that is not known yet turns out so'
  if (question.state === 'untouched' && !question.required) return '· may be left out'
  return `${ANSWER_MARKS[question.state]} ${WORDS[question.state] ?? question.state}${question.new ? ', new' : ''}`
}

/** An answer in the words of its choices. */
export function worded(shape: Shape, answer: Answer | null | undefined): string {
  if (answer === null || answer === undefined) return OPEN
  if (isDocument(answer)) return `${answer.name} (${size(answer.size_bytes)})`
  if (Array.isArray(answer)) return answer.map((choice) => shape.choices[choice] ?? choice).join(', ')
  if (typeof answer === 'object') {
    const rows = Object.entries(answer).map(([kind, row]) => `${shape.kinds[kind] ?? kind}: ${row.map((one) => (shape.attributes[one] ?? one).toLowerCase()).join(', ') || 'none of it'}`)
    return rows.join('; ') || OPEN
  }
  return shape.form === 'choice' ? (shape.choices[String(answer)] ?? String(answer)) : String(answer)
}

/** Whether two answers say the same. */
export const same = (one: Answer | null | undefined, other: Answer | null | undefined): boolean => canonical(one) === canonical(other)

function canonical(answer: Answer | null | undefined): string {
  if (answer === null || answer === undefined) return ''
  if (isDocument(answer)) return JSON.stringify([answer.sha256, answer.name])
  if (Array.isArray(answer)) return JSON.stringify([...answer].sort())
  if (typeof answer === 'object') return JSON.stringify(Object.keys(answer).sort().map((kind) => [kind, [...answer[kind]!].sort()]))
  return JSON.stringify(answer)
}
