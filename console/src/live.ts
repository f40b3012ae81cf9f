import { onMounted, onUnmounted, readonly, ref } from 'vue'

import type { Change } from './api'
import { START_OVER } from './states'

type Listener = (change: Change | null) => void

const SETTLE_MS = 120
/** While changes stream in, the page is loaded as often as this. */
const LONGEST_WAIT_MS = 1200
const FIRST_PAUSE_MS = 500
const LONGEST_PAUSE_MS = 15_000
const listeners = new Set<Listener>()
const state = ref<'following' | 'reconnecting' | 'off'>('off')
let source: EventSource | null = null
let last: string | null = null
let pause = FIRST_PAUSE_MS
let retry: ReturnType<typeof setTimeout> | undefined

/** Whether the page follows the desk live. */
export const liveState = readonly(state)

/** Follow the desk. The browser takes a cut line up by itself; after an answer that ends it, such as a proxy's, it is opened
 * anew here, with growing pauses, from the last change that was seen. */
export function follow(): void {
  if (source || retry) return
  source = new EventSource(last === null ? '/v1/live' : `/v1/live?after=${last}`)
  source.onopen = () => {
    if (last === null && state.value === 'reconnecting') for (const listener of listeners) listener(null)
    state.value = 'following'
    pause = FIRST_PAUSE_MS
  }
  source.onerror = () => {
    state.value = 'reconnecting'
    if (source?.readyState !== EventSource.CLOSED) return
    source = null
    retry = setTimeout(() => {
      retry = undefined
      follow()
    }, pause)
    pause = Math.min(pause * 2, LONGEST_PAUSE_MS)
  }
  source.addEventListener('change', (event) => {
    const told = event as MessageEvent<string>
    last = told.lastEventId
    const change = JSON.parse(told.data) as Change
    for (const listener of listeners) listener(change.kind === START_OVER ? null : change)
  })
}

export function unfollow(): void {
  clearTimeout(retry)
  retry = undefined
  source?.close()
  source = null
  last = null
  state.value = 'off'
}

/** Load now, and again shortly after each change that concerns the page. */
export function useLive(load: () => Promise<void>, concerns: (change: Change) => boolean = () => true): void {
  let timer: ReturnType<typeof setTimeout> | undefined
  let waitingSince = 0
  const listener: Listener = (change) => {
    if (change && !concerns(change)) return
    const now = Date.now()
    if (timer === undefined) waitingSince = now
    else if (now - waitingSince > LONGEST_WAIT_MS) return
    clearTimeout(timer)
    timer = setTimeout(() => {
      timer = undefined
      void load()
    }, SETTLE_MS)
  }
  onMounted(() => {
    listeners.add(listener)
    void load()
  })
  onUnmounted(() => {
    listeners.delete(listener)
    clearTimeout(timer)
  })
}
