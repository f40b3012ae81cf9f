import { computed, type ComputedRef, type Ref, ref } from 'vue'

interface Picked<Row> {
  here: ComputedRef<Row[]>
  all: ComputedRef<boolean>
  some: ComputedRef<boolean>
  has: (row: Row) => boolean
  pick: (row: Row, event: Event) => void
  pickAll: (event: Event) => void
  only: (ids: string[]) => void
}

const checked = (event: Event) => (event.target as HTMLInputElement).checked

/** Rows of a list that were chosen by their check boxes, as far as they are shown. */
export function usePicked<Row>(rows: Ref<Row[]>, id: (row: Row) => string): Picked<Row> {
  const picked = ref(new Set<string>())
  const here = computed(() => rows.value.filter((row) => picked.value.has(id(row))))
  const only = (ids: string[]) => void (picked.value = new Set(ids))
  return {
    here,
    all: computed(() => rows.value.length > 0 && here.value.length === rows.value.length),
    some: computed(() => here.value.length > 0 && here.value.length < rows.value.length),
    has: (row) => picked.value.has(id(row)),
    pick: (row, event) => only(checked(event) ? [...picked.value, id(row)] : [...picked.value].filter((one) => one !== id(row))),
    pickAll: (event) => only(checked(event) ? rows.value.map(id) : []),
    only,
  }
}
