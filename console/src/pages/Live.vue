<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StripChart from '../components/StripChart.vue'
import { useLive } from '../live'
import { useLoading } from '../loading'
import type { components } from '../schema'

type Live = components['schemas']['LiveTold']
type Strip = components['schemas']['StripTold']

/** What was live where: now, at any instant before, and over months. */
const props = defineProps<{ app: string }>()
const SPANS = [[0, 'what is known'], [30, '30 days'], [180, '180 days'], [365, 'a year'], [730, 'two years']] as const
/** So many days back; 0: the last 180, or as far as anything is known. */
const days = ref(0)
const at = ref('')
const country = ref('')
const fits = computed(() => !country.value || /^[A-Za-z]{2}$/.test(country.value))

const { data, problem, load } = useLoading<{ live: Live[]; strip: Strip }>(async () => {
  const since = days.value ? new Date(new Date((await told(api.GET('/v1/clock'))).now).getTime() - days.value * 86_400_000).toISOString() : null
  const [live, strip] = await Promise.all([
    told(api.GET('/v1/offered', { params: { query: { app: props.app, at: at.value ? new Date(at.value).toISOString() : null, country: country.value || null } } })),
    told(api.GET('/v1/apps/{app}/strip', { params: { path: { app: props.app }, query: { since } } })),
  ])
  return { live, strip }
})
useLive(load, (change) => change.app === props.app || change.app === null)
watch([days, at, country], () => void (fits.value && load()))

const exported = (form: '' | '/csv' | '/png') => {
  const asked = new URLSearchParams({ since: data.value?.strip.since ?? '', until: data.value?.strip.until ?? '' })
  if (form === '/png') asked.set('zone', Intl.DateTimeFormat().resolvedOptions().timeZone)
  return `/v1/apps/${props.app}/strip${form}?${asked.toString()}`
}
function look(instant: string): void {
  const moment = new Date(instant)
  at.value = new Date(moment.getTime() - moment.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
}
</script>

<template>
  <AppHead title="What was live where">
    <template v-if="data"><a class="btn btn-outline-primary btn-sm" :href="exported('/png')" download>PNG</a><a class="btn btn-outline-primary btn-sm" :href="exported('/csv')" download>CSV</a><a class="btn btn-outline-primary btn-sm" :href="exported('')" :download="`${app}-live.json`">JSON</a></template>
  </AppHead>
  <p class="soft">What each store offered new people, as the desk has seen it. Who has a version keeps it.</p>
  <ProblemNote :problem="problem" />
  <template v-if="data">
    <section class="card-plain block" aria-labelledby="instant">
      <div class="row-gap head">
        <h2 id="instant">{{ at ? 'At that instant' : 'Now' }}</h2>
        <label class="row-gap">At <input v-model="at" type="datetime-local" class="form-control form-control-sm instant" /></label>
        <label class="row-gap">In <input v-model="country" class="form-control form-control-sm country" maxlength="2" placeholder="every country" aria-label="Country, two letters" :aria-invalid="!fits" /></label>
        <BButton v-if="at || country" size="sm" variant="link" @click="((at = ''), (country = ''))">Now, everywhere</BButton>
      </div>
      <p v-if="!fits" class="soft small-print" role="status">A country has two letters, such as DE.</p>
      <EmptyState v-if="!data.live.length" title="It has no place at any store yet">Open one under <RouterLink to="/stores">Stores</RouterLink>.</EmptyState>
      <div v-else class="wide">
        <table class="table-plain">
          <thead><tr><th scope="col">Store</th><th scope="col">New people are offered</th><th scope="col">Where</th></tr></thead>
          <tbody><tr v-for="one in data.live" :key="one.store"><th scope="row">{{ one.store_title }}</th><td>{{ one.told }}</td><td class="countries">{{ one.where }}</td></tr></tbody>
        </table>
      </div>
    </section>
    <section v-if="data.live.length" class="card-plain block" aria-labelledby="over">
      <div class="row-gap head">
        <h2 id="over">Over time</h2>
        <div class="row-gap" role="group" aria-label="How far back"><BButton v-for="[count, said] in SPANS" :key="count" size="sm" :variant="days === count ? 'primary' : 'outline-primary'" :aria-pressed="days === count" @click="days = count">{{ said }}</BButton></div>
      </div>
      <StripChart :strip="data.strip" @chosen="look" />
      <details>
        <summary>As a table</summary>
        <div class="wide">
          <table class="table-plain">
            <thead><tr><th scope="col">Store</th><th scope="col">Since</th><th scope="col">Until</th><th scope="col">Offered</th><th scope="col">Where</th></tr></thead>
            <tbody>
              <template v-for="store in data.strip.stores" :key="store.store"><tr v-for="part in store.stretches" :key="part.since"><th scope="row">{{ store.store_title }}</th><td><Moment :at="part.since" /></td><td><Moment :at="part.until" /></td><td>{{ part.told }}</td><td class="countries">{{ part.where }}</td></tr></template>
            </tbody>
          </table>
        </div>
      </details>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.block { display: grid; gap: 0.7rem; margin-bottom: 0.9rem; }
.head h2 { margin: 0; }
.wide { overflow-x: auto; }
.instant { width: 15rem; }
.country { width: 9rem; text-transform: uppercase; }
.country::placeholder { text-transform: none; }
.countries { overflow-wrap: anywhere; }
tbody th { text-align: left; padding: 0.6rem 0.9rem 0.6rem 0; border-bottom: 1px solid var(--line); font-weight: 600; font-size: 1rem; color: var(--ink); }
tbody tr:last-child th { border-bottom: 0; }
summary { color: var(--accent); font-size: 0.9rem; }
</style>
