<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, type App, told } from '../api'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import { LIMITS } from '../states'

type Freeze = components['schemas']['FreezeTold']
type Override = components['schemas']['OverrideTold']

/** Freezes: windows in which nothing launches and no share rises, and releases that rise in spite of one. */
const route = useRoute()
const { data, problem, load } = useLoading<{ freezes: Freeze[]; overrides: Override[]; apps: App[]; stores: { name: string; title: string }[] }>(async () => {
  const [freezes, overrides, apps, stores] = await Promise.all([told(api.GET('/v1/freezes')), told(api.GET('/v1/freeze-overrides')), told(api.GET('/v1/apps')), told(api.GET('/v1/stores'))])
  return { freezes, overrides, apps, stores }
})
useLive(load, (change) => change.subject.startsWith('freeze') || change.subject.startsWith('release'))
const doing = useDoing()
const open = ref(false)
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
const fresh = () => ({ name: '', begins: '', ends: '', zone, yearly: false, apps: [] as string[], stores: [] as string[], reason: '' })
const form = reactive(fresh())
const ending = ref<string | null>(null)
const why = ref('')
const asked = computed(() => (route.query.app && route.query.version ? { app: String(route.query.app), version: String(route.query.version) } : null))
const asking = ref('')

async function save(): Promise<void> {
  const done = await doing.run(async () => {
    await told(api.POST('/v1/freezes', { body: { ...form } }))
    await load()
  }, `${form.name} is set`)
  if (done) {
    open.value = false
    Object.assign(form, fresh())
  }
}
async function end(name: string): Promise<void> {
  const done = await doing.run(async () => {
    await told(api.POST('/v1/freezes/{freeze}/end', { params: { path: { freeze: name } }, body: { reason: why.value } }))
    await load()
  }, `${name} is ended; what it held continues`)
  if (done) ending.value = null
}
async function ask(): Promise<void> {
  const wanted = asked.value
  if (!wanted) return
  const done = await doing.run(async () => {
    await told(api.POST('/v1/apps/{app}/releases/{version}/freeze-overrides', { params: { path: wanted }, body: { reason: asking.value } }))
    await load()
  }, 'Asked; a second person has to agree')
  if (done) asking.value = ''
}
const agree = (one: Override) => doing.run(async () => {
  await told(api.POST('/v1/freeze-overrides/{override}/agreement', { params: { path: { override: one.id } } }))
  await load()
}, `${one.version} rises in spite of the freeze`)
</script>

<template>
  <div class="page-head"><h1>Freezes</h1><BButton data-needs="arrange-desk" v-if="!open" variant="primary" @click="open = true">Set a freeze</BButton></div>
  <p class="soft">In a freeze nothing launches and no share rises. Halts, pauses and withdrawals always go.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />

  <form v-if="asked" class="card-plain block" aria-label="Rise in spite of a freeze" @submit.prevent="ask">
    <h2>{{ asked.version }} of {{ asked.app }} in spite of a freeze</h2>
    <p class="soft">For an emergency. A second person has to agree; then no freeze holds this release until the freeze ends.</p>
    <label>Why <input v-model="asking" class="form-control form-control-sm" required maxlength="300" /></label>
    <div><BButton data-needs="steer" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Ask a second person</BButton></div>
  </form>
  <form v-if="open" class="card-plain block" aria-label="A new freeze" @submit.prevent="save">
    <h2>A new freeze</h2>
    <div class="fields">
      <label>Name <input v-model="form.name" class="form-control form-control-sm" :maxlength="LIMITS.freezeName" required placeholder="holidays" /></label>
      <label>From <input v-model="form.begins" type="datetime-local" class="form-control form-control-sm" required /></label>
      <label>To <input v-model="form.ends" type="datetime-local" class="form-control form-control-sm" required /></label>
      <label>Times in <input v-model="form.zone" class="form-control form-control-sm" required maxlength="60" /></label>
      <label>Apps <select v-model="form.apps" multiple class="form-select form-select-sm" aria-describedby="none-is-all"><option v-for="app in data?.apps ?? []" :key="app.name" :value="app.name">{{ app.title }}</option></select></label>
      <label>Stores <select v-model="form.stores" multiple class="form-select form-select-sm" aria-describedby="none-is-all"><option v-for="store in data?.stores ?? []" :key="store.name" :value="store.name">{{ store.title }}</option></select></label>
      <label>Why <input v-model="form.reason" class="form-control form-control-sm" maxlength="300" /></label>
    </div>
    <p id="none-is-all" class="soft small-print">None chosen: all of them.</p>
    <label class="row-gap"><input v-model="form.yearly" type="checkbox" class="form-check-input" /> Every year on these days</label>
    <div class="row-gap"><BButton data-needs="arrange-desk" type="submit" variant="primary" :disabled="doing.busy.value">Set it</BButton><BButton variant="link" @click="open = false">Cancel</BButton></div>
  </form>

  <template v-if="data">
    <section v-if="data.overrides.length" class="card-plain block" aria-labelledby="in-spite">
      <h2 id="in-spite">In spite of a freeze</h2>
      <ul class="plain-list">
        <li v-for="one in data.overrides" :key="one.id" class="row-gap">
          <span><RouterLink :to="`/apps/${one.app}/releases/${one.version}`">{{ one.app }} {{ one.version }}</RouterLink>, asked by {{ one.asked_by }} <Moment :at="one.asked_at" />: {{ one.reason }}</span>
          <span v-if="one.agreed_at">✓ agreed by {{ one.agreed_by }}</span>
          <BButton data-needs="steer" v-else size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="agree(one)">Agree as the second person</BButton>
        </li>
      </ul>
    </section>
    <EmptyState v-if="!data.freezes.length && !open" title="No freeze is set">Set one for days on which no one is watching, such as holidays: once, or every year.</EmptyState>
    <section v-for="one in data.freezes" :key="one.name" class="card-plain block" :aria-label="one.name">
      <header class="row-gap"><h2>{{ one.name }}</h2><strong v-if="one.holds">■ holds now</strong><span v-else-if="!one.next_end" class="soft">over</span></header>
      <p v-if="one.next_begin && one.next_end">From <Moment :at="one.next_begin" /> to <Moment :at="one.next_end" /><template v-if="one.yearly">, every year</template>. <span class="soft">{{ one.apps.join(', ') || 'All apps' }}, {{ one.stores.join(', ') || 'all stores' }}.</span></p>
      <p v-if="one.reason" class="soft">{{ one.reason }}</p>
      <BButton data-needs="arrange-desk" v-if="ending !== one.name" size="sm" variant="link" class="rest" @click="((ending = one.name), (why = ''))">End it</BButton>
      <form v-else class="row-gap" @submit.prevent="end(one.name)"><label class="row-gap">Why <input v-model="why" class="form-control form-control-sm" required maxlength="300" placeholder="it stands in the logbook" /></label><BButton data-needs="arrange-desk" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">End it</BButton><BButton size="sm" variant="link" @click="ending = null">Cancel</BButton></form>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.block { display: grid; gap: 0.6rem; margin-bottom: 0.8rem; }
.block p { margin: 0; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(14rem, 1fr)); gap: 0.7rem 1rem; align-items: end; }
.rest { justify-self: start; padding-left: 0; }
li { justify-content: space-between; padding: 0.3rem 0; }
</style>
