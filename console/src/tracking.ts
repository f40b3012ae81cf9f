import type { TrackCell } from './api'

/** How many are on a track, and who, in words. */
export function audienceOf(cell: TrackCell): string {
  return cell.people === null ? cell.whom : `${cell.people.toLocaleString('en')} people, ${cell.whom}`
}
