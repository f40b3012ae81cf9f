import type { TrackCell } from './api'

/** Whom a track reaches, in words. */
export function audienceOf(cell: TrackCell): string {
  const people = cell.people === null ? '' : `${cell.people.toLocaleString('en')} people`
  const whom = { cohorts: cell.cohorts.length ? cell.cohorts.join(', ') : `for ${cell.kinds.join(' and ')} cohorts; none is here`, choosers: 'who chose it at the store', everybody: 'everybody' }[cell.audience]
  return [people, whom].filter(Boolean).join(', ')
}
