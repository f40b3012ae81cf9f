import type { components } from './schema'

export type Guard = components['schemas']['GuardTold']
export type Watch = components['schemas']['WatchTold']
export type Found = components['schemas']['Found']
export type EvidencePoint = components['schemas']['EvidencePoint']
export type Course = components['schemas']['CourseTold']
export type GuardTrial = components['schemas']['GuardTrialTold']
export type GuardWanted = components['schemas']['GuardWanted']

/** A verdict in words and with a shape, so that colour never stands alone. */
export function verdictOf(watch: Watch): { sign: string; word: string; kind: 'steady' | 'watch' | 'breach' | 'blind' } {
  if (watch.verdict === 'breach') return { sign: '✕', word: 'breach', kind: 'breach' }
  if (watch.blind) return { sign: '◌', word: 'blind', kind: 'blind' }
  if (watch.verdict === 'watch') return { sign: '▲', word: 'watch', kind: 'watch' }
  if (watch.verdict === 'steady') return { sign: '✓', word: 'steady', kind: 'steady' }
  return { sign: '◌', word: 'nothing counted yet', kind: 'blind' }
}

/** What a guard does when it is sure, in words. */
export function doesOf(guard: Guard): string {
  if (guard.on_breach === 'tell') return 'tells people'
  const where = guard.every_store ? 'at every store' : guard.together && !guard.stores.length ? 'at every store it watches' : 'at the store it watches'
  return `orders a ${guard.on_breach} ${where} and tells people`
}
