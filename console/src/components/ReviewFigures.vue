<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told } from '../api'
import { useLoading } from '../loading'
import type { components } from '../schema'
import { hoursTold, percent } from '../telling'
import ProblemNote from './ProblemNote.vue'

type By = components['schemas']['By']

/** How long reviews took and how many were refused: a bar for the median, a band for eight of ten. */
const props = defineProps<{ app: string }>()
const by = ref<By>('store')
const every = ref(false)
const { data: rows, problem, load } = useLoading(() => told(api.GET('/v1/review-figures', { params: { query: { by: by.value, app: every.value ? undefined : props.app } } })))
watch([by, every], () => void load(), { immediate: true })
const most = computed(() => Math.max(0.1, ...(rows.value ?? []).map((row) => Math.max(row.high_hours ?? 0, row.whole_hours ?? 0))))
const at = (hours: number | null) => `${((hours ?? 0) / most.value) * 100}%`
</script>

<template>
  <section class="card-plain figures" aria-labelledby="review-figures">
    <div class="row-gap head">
      <h2 id="review-figures">How long reviews take</h2>
      <label class="row-gap small-print">by <select v-model="by" class="form-select form-select-sm"><option value="store">store</option><option value="app">app</option><option value="weekday">the weekday of handing in (UTC)</option></select></label>
      <label class="row-gap small-print"><input v-model="every" type="checkbox" class="form-check-input" /> all apps</label>
    </div>
    <ProblemNote :problem="problem" />
    <table v-if="rows?.length" class="table table-sm">
      <thead><tr><th scope="col"><span class="visually-hidden">Which</span></th><th scope="col" class="bars">From handing in to the verdict</th><th scope="col">Waiting</th><th scope="col">Deciding</th><th scope="col">Refused</th></tr></thead>
      <tbody>
        <tr v-for="row in rows" :key="row.name">
          <th scope="row">{{ row.name }}</th>
          <td class="bars">
            <template v-if="row.whole_hours !== null">
              <span class="bar" aria-hidden="true"><span v-if="row.low_hours !== null" class="band" :style="{ left: at(row.low_hours), width: `calc(${at(row.high_hours)} - ${at(row.low_hours)})` }" /><span class="median" :style="{ left: at(row.whole_hours) }" /></span>
              <span class="small-print">{{ hoursTold(row.whole_hours) }}<span v-if="row.low_hours !== null" class="soft"> · {{ hoursTold(row.low_hours) }} to {{ hoursTold(row.high_hours!) }}</span></span>
            </template>
            <span v-else class="soft small-print">nothing decided yet</span>
          </td>
          <td data-what="Waiting">{{ row.waiting_hours === null ? '–' : hoursTold(row.waiting_hours) }}</td>
          <td data-what="Deciding">{{ row.deciding_hours === null ? '–' : hoursTold(row.deciding_hours) }}</td>
          <td data-what="Refused">{{ row.decided ? `${row.refused} of ${row.decided}` : '–' }}<span v-if="row.refused_share" class="soft small-print"> · {{ percent(row.refused_share) }}</span></td>
        </tr>
      </tbody>
    </table>
    <p v-else class="soft">Nothing was handed to review yet. Medians stand here after the first verdicts, and bands after five.</p>
  </section>
</template>

<style scoped>
.figures { margin-top: 1rem; }
.head h2 { margin: 0 0.6rem 0 0; }
.head label { display: flex; align-items: center; }
.head select { width: auto; }
.table { margin: 0.6rem 0 0; --bs-table-bg: transparent; }
th, td { vertical-align: middle; }
.bars { width: 45%; }
.bar { position: relative; display: block; height: 0.9rem; border-bottom: 2px solid var(--line); }
.band { position: absolute; top: 0.2rem; bottom: 0; background: var(--water); opacity: 0.6; }
.median { position: absolute; top: 0; bottom: 0; border-left: 3px solid var(--accent); }
p { margin: 0.5rem 0 0; }
@media (max-width: 640px) {
  thead { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
  tr { display: grid; gap: 0.15rem; padding: 0.5rem 0; border-bottom: 1px solid var(--line); }
  th, td { border: 0; padding: 0; }
  .bars { width: auto; }
  td[data-what]::before { content: attr(data-what) ': '; color: var(--soft); }
}
</style>
