import { computed, type ComputedRef, type Ref } from 'vue'

type Value = string | number | null | undefined

const words = new Intl.Collator(undefined, { numeric: true, sensitivity: 'base' })

/** Rows in the order that was asked for: a column's name, with `-` before it for the other way round. Rows without a value come last. */
export function useSorted<Row>(rows: Ref<readonly Row[]> | ComputedRef<readonly Row[]>, by: Record<string, (row: Row) => Value>, order: () => string): ComputedRef<readonly Row[]> {
  return computed(() => {
    const falls = order().startsWith('-')
    const value = by[order().replace(/^-/, '')]
    if (!value) return rows.value
    return [...rows.value].sort((one, other) => {
      const [a, b] = [value(one), value(other)]
      if (a == null || b == null) return a == null ? (b == null ? 0 : 1) : -1
      const apart = typeof a === 'number' && typeof b === 'number' ? a - b : words.compare(String(a), String(b))
      return falls ? -apart : apart
    })
  })
}
