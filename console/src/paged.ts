import { computed, type Ref, ref, watch, type WatchSource } from 'vue'

import type { Problem } from './api'
import { useLoading } from './loading'

interface Paged<T> {
  rows: Ref<T[]>
  seen: Ref<boolean>
  ended: Ref<boolean>
  problem: Ref<Problem | null>
  refresh: () => Promise<void>
  begin: () => Promise<void>
  next: () => Promise<void>
}

const TYPING_MS = 150

/** A long list, a page at a time: `refresh` keeps what a person has unfolded, `begin` starts over, also when a wish changes. */
export function usePaged<T>(size: number, ask: (after: string) => Promise<T[]>, mark: (row: T) => string, wishes: WatchSource[]): Paged<T> {
  const more = ref([]) as Ref<T[]>
  const ended = ref(false)
  const first = useLoading(() => page(''))

  async function page(after: string): Promise<T[]> {
    const found = await ask(after)
    ended.value = found.length < size
    return found
  }

  async function refresh(): Promise<void> {
    if (!more.value.length) await first.load()
  }

  async function begin(): Promise<void> {
    more.value = []
    await first.load()
  }

  const rows = computed(() => [...(first.data.value ?? []), ...more.value])
  async function next(): Promise<void> {
    const last = rows.value.at(-1)
    if (last) more.value = [...more.value, ...(await page(mark(last)))]
  }

  let timer: ReturnType<typeof setTimeout> | undefined
  watch(wishes, () => {
    clearTimeout(timer)
    timer = setTimeout(() => void begin(), TYPING_MS)
  }, { deep: true })

  return { rows, seen: computed(() => first.data.value !== null), ended, problem: first.problem, refresh, begin, next }
}
