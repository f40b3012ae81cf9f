/** What was done in this visit, to be read again; some of it can be undone from where it is told. */
import { ref, shallowRef } from 'vue'

export interface Message {
  id: number
  at: string
  said: string
  well: boolean
  undo: (() => Promise<unknown>) | null
}

const KEPT = 'messages'
const MOST = 50
const SHOWN_MS = 9_000

function before(): Message[] {
  try {
    return (JSON.parse(sessionStorage.getItem(KEPT) ?? '[]') as Message[]).map((message) => ({ ...message, undo: null }))
  } catch {
    return []
  }
}

/** Newest first. */
export const messages = shallowRef<Message[]>(before())
/** The one that is shown now, until it is closed or its time is over. */
export const showing = ref<number | null>(null)
let timer: ReturnType<typeof setTimeout> | undefined

function keep(now: Message[]): void {
  messages.value = now.slice(0, MOST)
  sessionStorage.setItem(KEPT, JSON.stringify(messages.value.map(({ id, at, said, well }) => ({ id, at, said, well }))))
}

export function tell(said: string, undo: (() => Promise<unknown>) | null = null, well = true): void {
  const id = (messages.value[0]?.id ?? 0) + 1
  keep([{ id, at: new Date().toISOString(), said, well, undo }, ...messages.value])
  showing.value = id
  rest(false)
}

/** Whoever signs in next reads nothing of it. */
export function forgetMessages(): void {
  keep([])
  showing.value = null
}

/** Nothing goes away while someone points at it. */
export function rest(on: boolean): void {
  clearTimeout(timer)
  if (!on) timer = setTimeout(() => (showing.value = null), SHOWN_MS)
}

/** Undo what a message told of; it can be done once. */
export async function takeBack(message: Message): Promise<void> {
  const undo = message.undo
  if (!undo) return
  keep(messages.value.map((entry) => (entry.id === message.id ? { ...entry, undo: null } : entry)))
  try {
    await undo()
    tell(`Undone: ${message.said}`)
  } catch (wrong) {
    tell(`Not undone: ${wrong instanceof Error ? wrong.message : String(wrong)}`, null, false)
  }
}
