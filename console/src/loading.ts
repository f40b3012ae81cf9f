import { type Ref, ref, shallowRef } from 'vue'

import { Problem } from './api'
import { tell } from './messages'
import { released } from './pointer'
import { router } from './router'
import { session } from './session'

interface Loading<T> {
  data: Ref<T | null>
  problem: Ref<Problem | null>
  load: () => Promise<void>
  /** Show what the answer to a change of our own says; it is newer than whatever was asked before. */
  keep: (found: T) => void
}

/** A piece of data with the problem that kept it away; the last good data stays on the page.
 *
 * What was asked later is newer: an answer that comes after the answer to a later question is passed over. */
export function useLoading<T>(ask: () => Promise<T>): Loading<T> {
  const data = shallowRef<T | null>(null)
  const problem = ref<Problem | null>(null) as Ref<Problem | null>
  let asked = 0
  let answered = 0
  async function load(): Promise<void> {
    const mine = ++asked
    try {
      const found = await ask()
      await released()
      if (mine < answered) return
      data.value = found
      problem.value = null
    } catch (wrong) {
      await released()
      if (mine < answered) return
      problem.value = asProblem(wrong)
    }
    answered = mine
  }
  function keep(found: T): void {
    answered = ++asked
    data.value = found
    problem.value = null
  }
  return { data, problem, load, keep }
}

interface Doing {
  busy: Ref<boolean>
  problem: Ref<Problem | null>
  /** `said` is told when it is done, with a way to undo it where there is one. */
  run: (act: () => Promise<unknown>, said?: string, undo?: () => Promise<unknown>) => Promise<boolean>
}

/** One act at a time, with the problem it met. */
export function useDoing(): Doing {
  const busy = ref(false)
  const problem = ref<Problem | null>(null) as Ref<Problem | null>
  async function run(act: () => Promise<unknown>, said?: string, undo?: () => Promise<unknown>): Promise<boolean> {
    if (busy.value) return false
    busy.value = true
    problem.value = null
    try {
      await act()
      if (said) tell(said, undo)
      return true
    } catch (wrong) {
      problem.value = asProblem(wrong)
      return false
    } finally {
      busy.value = false
    }
  }
  return { busy, problem, run }
}

/** What went wrong, in words; a session that has ended leads to the sign-in. */
export function asProblem(wrong: unknown): Problem {
  if (!(wrong instanceof Problem)) return new Problem(0, 'Load the page again.', String(wrong))
  if (wrong.status === 401 && router.currentRoute.value.path !== '/sign-in') {
    session.ended()
    void router.push({ path: '/sign-in', query: { next: router.currentRoute.value.fullPath } })
  }
  return wrong
}
