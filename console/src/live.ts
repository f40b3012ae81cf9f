import { onMounted, onUnmounted, readonly, ref } from 'vue'

import type { Change } from './api'

type Listener = (change: Change) => void

const SETTLE_MS = 120
/** While changes stream in, the page is loaded as often as this. */
const LONGEST_WAIT_MS = 1200
const listeners = new Set<Listener>()
const state = ref<'following' | 'reconnecting' | 'off'>('off')
let source: EventSource | null = null

/** Whether the page follows the desk live; the browser takes a cut line up again by Last-Event-ID. */
export const liveState = readonly(state)

export function follow(): void {
  if (source) return
  source = new EventSource('/v1/live')
  source.onopen = () => (state.value = 'following')
  source.onerror = () => (state.value = 'reconnecting')
  source.addEventListener('change', (event) => {
    const change = JSON.parse((event as MessageEvent<string>).data) as Change
    for (const listener of listeners) listener(change)
  })
}

export function unfollow(): void {
  source?.close()
  source = null
  state.value = 'off'
}

/** Load now, and again shortly after each change that concerns the page. */
export function useLive(load: () => Promise<void>, concerns: (change: Change) => boolean = () => true): void {
  let timer: ReturnType<typeof setTimeout> | undefined
  let waitingSince = 0
  const listener: Listener = (change) => {
    if (!concerns(change)) return
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
