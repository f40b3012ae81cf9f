<script setup lang="ts">
import { computed, onMounted, reactive, ref, watch } from 'vue'

import { api, type BerthDetail, type OfferSheet, told } from '../api'
import { useDoing } from '../loading'
import { MARKS } from '../readiness'
import ProblemNote from './ProblemNote.vue'

/** Where, for how much and to whom an app is offered at one store; what would lock is said before the act. */
const props = defineProps<{ app: string; store: string }>()
const emit = defineEmits<{ done: [] }>()

const detail = ref<BerthDetail | null>(null)
const sheet = ref<OfferSheet | null>(null)
const wish = reactive({ paid: false, price: '', currency: 'EUR', countries: '', who: 'everyone', organisations: '', closed: false, reason: '' })
const { busy, problem, run } = useDoing()
const path = computed(() => ({ app: props.app, store: props.store }))

const wanted = computed(() => ({
  closed: wish.closed,
  price: wish.paid ? wish.price.trim() : null,
  currency: wish.paid ? wish.currency : null,
  countries: wish.countries.split(',').map((code) => code.trim().toUpperCase()).filter(Boolean),
  who: wish.who as BerthDetail['offered']['who'],
  organisations: wish.who === 'everyone' ? [] : wish.organisations.split(',').map((name) => name.trim()).filter(Boolean),
}))
const unchanged = computed(() => {
  const now = detail.value?.offered
  return now !== undefined && JSON.stringify({ ...wanted.value, price: Number(wanted.value.price) }) === JSON.stringify({ closed: now.closed, price: Number(now.price), currency: now.currency, countries: now.countries, who: now.who, organisations: now.organisations })
})

async function load(): Promise<void> {
  const found = await told(api.GET('/v1/apps/{app}/berths/{store}', { params: { path: path.value } }))
  detail.value = found
  const now = found.offered
  Object.assign(wish, {
    paid: now.price != null, price: now.price ?? '', currency: now.currency ?? found.choices.currencies?.[0] ?? 'EUR',
    countries: (now.countries ?? []).join(', '), who: now.who, organisations: (now.organisations ?? []).join(', '), closed: now.closed,
  })
}
onMounted(() => run(load))
watch(wanted, () => (sheet.value = null))

const check = () => run(async () => void (sheet.value = await told(api.POST('/v1/apps/{app}/berths/{store}/offer-checks', { params: { path: path.value }, body: { availability: wanted.value, reason: '' } }))))
async function order(): Promise<void> {
  const ordered = await run(() => told(api.POST('/v1/apps/{app}/berths/{store}/offers', { params: { path: path.value }, body: { availability: wanted.value, reason: wish.reason } })))
  if (ordered) emit('done')
}
</script>

<template>
  <div class="offer">
    <ProblemNote :problem="problem" />
    <template v-if="detail">
      <form class="fields" @submit.prevent="sheet && !sheet.findings.length ? order() : check()">
        <label class="check"><input v-model="wish.paid" type="checkbox" class="form-check-input" :disabled="!detail.choices.paid" /> It costs something</label>
        <template v-if="wish.paid">
          <label>Price <input v-model="wish.price" class="form-control form-control-sm" inputmode="decimal" required placeholder="2.99" size="7" /></label>
          <label>Currency <select v-model="wish.currency" class="form-select form-select-sm"><option v-for="code in detail.choices.currencies" :key="code">{{ code }}</option></select></label>
        </template>
        <label class="wide">Countries <span class="soft small-print">two letters each; empty: everywhere</span><input v-model="wish.countries" class="form-control form-control-sm" placeholder="everywhere" /></label>
        <label>Who may get it <select v-model="wish.who" class="form-select form-select-sm"><option v-for="who in detail.choices.who" :key="who">{{ who }}</option></select></label>
        <label v-if="wish.who !== 'everyone'" class="wide">Their names, with commas <input v-model="wish.organisations" class="form-control form-control-sm" required /></label>
        <label v-if="detail.choices.may_close || wish.closed" class="check"><input v-model="wish.closed" type="checkbox" class="form-check-input" /> Closed: nobody new gets it there</label>
        <div v-if="sheet" class="wide sheet" role="status">
          <p v-for="finding in sheet.findings" :key="finding.code"><strong>✕ {{ finding.detail }}</strong> {{ finding.remedy }}</p>
          <p v-for="line in sheet.consequences" :key="line">◔ {{ line }}</p>
          <p v-if="!sheet.findings.length && !sheet.consequences.length">✓ Nothing stands against it, and it can be changed back.</p>
          <label v-if="!sheet.findings.length">Why? It stands in the logbook. <input v-model="wish.reason" class="form-control form-control-sm" /></label>
        </div>
        <div class="wide"><BButton data-needs="arrange-apps" type="submit" size="sm" variant="primary" :disabled="busy || unchanged">{{ sheet && !sheet.findings.length ? 'Order it' : 'What would it mean?' }}</BButton></div>
      </form>
      <details>
        <summary>The way to a launch here</summary>
        <table class="table-plain">
          <thead><tr><th>Thing</th><th>State</th><th>Usually</th><th>Locks</th></tr></thead>
          <tbody>
            <tr v-for="thing in detail.things" :key="thing.key">
              <td>{{ thing.title }}</td>
              <td>{{ MARKS[thing.state] }} {{ thing.state }}<span v-if="thing.reason" class="soft"> {{ thing.reason }}</span></td>
              <td>{{ thing.usual_hours ? `${thing.usual_hours} h` : '' }}</td>
              <td class="soft">{{ thing.lock }}</td>
            </tr>
          </tbody>
        </table>
      </details>
    </template>
  </div>
</template>

<style scoped>
.offer { border-left: 3px solid var(--accent); padding: 0.3rem 0 0.3rem 0.9rem; margin: 0.4rem 0 0.8rem; }
.fields { display: flex; flex-wrap: wrap; gap: 0.6rem 1rem; align-items: end; }
.fields label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.fields .check { display: flex; gap: 0.5rem; align-items: center; }
.fields .wide { flex-basis: 100%; }
.sheet { background: var(--care-soft); border-radius: 0.35rem; padding: 0.5rem 0.8rem; }
.sheet p { margin: 0.15rem 0; }
details { margin-top: 0.6rem; font-size: 0.9rem; }
summary { color: var(--accent); }
</style>
