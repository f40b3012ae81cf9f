const DAY = new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZoneName: 'short' })
const FAR = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })
const UNITS: [number, string][] = [
  [700 * 86_400, 'y'],
  [86_400, 'd'],
  [3_600, 'h'],
  [60, 'min'],
]

/** Such as "Tue 24 Nov, 14:00 CET". */
export function onTheDay(instant: string): string {
  const at = new Date(instant)
  return (Math.abs(at.getTime() - Date.now()) > 300 * 86_400_000 ? FAR : DAY).format(at)
}

/** A platform as people write it. */
export function platformName(platform: string): string {
  return { android: 'Android', ios: 'iOS', desktop: 'Desktop' }[platform] ?? platform
}

/** How far an instant is: "in 3 h", "2 d ago", "now". */
export function distance(instant: string): string {
  const seconds = (new Date(instant).getTime() - Date.now()) / 1000
  for (const [size, unit] of UNITS) {
    if (Math.abs(seconds) >= size) {
      const count = unit === 'y' ? Math.abs(seconds) / (365.25 * 86_400) : Math.abs(seconds) / size
      const away = `${Math.round(count)}\u00a0${unit}`
      return seconds > 0 ? `in\u00a0${away}` : `${away}\u00a0ago`
    }
  }
  return 'now'
}

export function percent(share: number): string {
  const value = share * 100
  return `${Number.isInteger(Math.round(value * 10) / 10) ? Math.round(value) : value.toFixed(1)}%`
}

export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`
  if (bytes < 1e6) return `${(bytes / 1e3).toFixed(1)} kB`
  return bytes < 1e9 ? `${(bytes / 1e6).toFixed(1)} MB` : `${(bytes / 1e9).toFixed(2)} GB`
}

export function hours(count: number): string {
  return count >= 48 && count % 24 === 0 ? `${count / 24} d` : `${count} h`
}

/** A time in hours, such as 3.5 h or 4.2 d. */
export function hoursTold(count: number): string {
  if (count < 1) return `${Math.round(count * 60)} min`
  return count < 72 ? `${+count.toPrecision(count < 10 ? 2 : 3)} h` : `${+(count / 24).toPrecision(2)} d`
}

/** The length of a text as a store counts it. */
export function measured(text: string, unit: string): number {
  if (unit === 'bytes') return new TextEncoder().encode(text).length
  return unit === 'characters' ? [...text].length : text.length
}

function value(key: string, held: unknown): string {
  if (key === 'share' && typeof held === 'number') return percent(held)
  return held == null || held === '' ? '–' : Array.isArray(held) ? held.join(', ') : String(held)
}

/** What a line of the logbook changed, as ``state: rising → halted``. */
export function changes(line: { before?: Record<string, unknown> | null; after?: Record<string, unknown> | null }): string[] {
  const before = line.before ?? {}
  const after = line.after ?? {}
  return [...new Set([...Object.keys(before), ...Object.keys(after)])]
    .filter((key) => JSON.stringify(before[key]) !== JSON.stringify(after[key]))
    .map((key) => (key in before ? `${key}: ${value(key, before[key])} → ${value(key, after[key])}` : `${key}: ${value(key, after[key])}`))
}
