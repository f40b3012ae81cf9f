<script setup lang="ts">
import { reactive, ref, toRef, watch } from 'vue'

import { api, type Tester, told } from '../api'
import EmptyState from '../components/EmptyState.vue'
import ImportList from '../components/ImportList.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { inAddress } from '../address'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { usePaged } from '../paged'
import { usePicked } from '../picking'

/** Everybody who tests, whatever they test. */
const PAGE = 50
const wish = inAddress<{ find: string; sort: 'address' | 'name' | 'newest' }>({ find: '', sort: 'address' })
const search = toRef(wish, 'find')
const count = useLoading(() => told(api.GET('/v1/testers/count', { params: { query: { text: search.value } } })))
const people = usePaged<Tester>(
  PAGE,
  async (after) => {
    if (!after) void count.load()
    return told(api.GET('/v1/testers', { params: { query: { text: search.value, order: wish.sort, after, limit: PAGE } } }))
  },
  (tester) => tester.email,
  [() => wish],
)
const { rows: testers, seen, ended, problem, begin: load } = people
useLive(people.refresh, (change) => change.kind.includes('tester') || change.kind.includes('imported'))
const doing = useDoing()

const listing = ref(false)
const chosen = ref<string | null>(null)
const forgetting = ref<string | null>(null)
const reason = ref('')
const told_ = ref('')
const edit = reactive({ name: '', email: '', platforms: '', languages: '', tags: '' })
const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

function choose(tester: Tester): void {
  chosen.value = chosen.value === tester.id ? null : tester.id
  Object.assign(edit, { name: tester.name, email: tester.email, platforms: tester.platforms.join(' '), languages: tester.languages.join(' '), tags: tester.tags.join(' ') })
}

async function act(work: () => Promise<unknown>, said?: string): Promise<boolean> {
  const done = await doing.run(work, said)
  if (done) await load()
  return done
}

async function keep(tester: Tester): Promise<void> {
  const body = { name: edit.name, email: edit.email === tester.email ? null : edit.email, platforms: words(edit.platforms), languages: words(edit.languages), tags: words(edit.tags) }
  if (await act(() => told(api.PATCH('/v1/testers/{tester}', { params: { path: { tester: tester.id } }, body })))) chosen.value = null
}

async function forget(tester: Tester): Promise<void> {
  if (await act(() => told(api.POST('/v1/testers/{tester}/forgetting', { params: { path: { tester: tester.id } }, body: { reason: reason.value } })))) {
    told_.value = `Forgotten. ${tester.id} is all that is left.`
    forgetting.value = chosen.value = null
  }
}

const picked = usePicked(testers, (tester) => tester.id)
const into = ref('')
const apps = useLoading(async () => {
  const every = await told(api.GET('/v1/apps'))
  const lists = await Promise.all(every.filter((app) => !app.retired_at).map((app) => told(api.GET('/v1/apps/{app}/cohorts', { params: { path: { app: app.name } } }))))
  return lists.flat().filter((cohort) => !cohort.retired_at)
})

watch(() => picked.here.value.length, (count) => count && !apps.data.value && void apps.load())

async function putIn(): Promise<void> {
  const [app, cohort] = into.value.split('/') as [string, string]
  const people = picked.here.value.map((tester) => tester.id)
  if (await act(() => told(api.POST('/v1/apps/{app}/cohorts/{cohort}/picks', { params: { path: { app, cohort } }, body: { testers: people } })), `${people.length} testers are in ${into.value}`)) picked.only([])
}

const nextPage = () => doing.run(people.next)
</script>

<template>
  <div class="page-head">
    <div class="row-gap"><h1>Testers</h1><span v-if="count.data.value" class="soft">{{ count.data.value.count.toLocaleString('en') }}{{ search ? ' match' : '' }}</span><input v-model="search" type="search" class="form-control find" placeholder="Search name, address, tag" aria-label="Search testers" /><select v-model="wish.sort" class="form-select order" aria-label="Order"><option value="address">by address</option><option value="name">by name</option><option value="newest">newest first</option></select></div>
    <div class="row-gap"><BButton data-needs="keep-testers" variant="outline-primary" @click="listing = !listing">Import a list</BButton><BButton variant="outline-primary" :href="`/v1/testers/export?text=${encodeURIComponent(search)}`">CSV</BButton></div>
  </div>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <p v-if="told_" role="status">✓ {{ told_ }}</p>
  <ImportList v-if="listing" path="/v1/testers/imports" into="the desk" @done="((listing = false), load())" @leave="listing = false" />
  <form v-if="picked.here.value.length" class="row-gap several" @submit.prevent="putIn">
    <strong>{{ picked.here.value.length }} chosen:</strong>
    <label class="row-gap">put them into <select v-model="into" class="form-select form-select-sm order" required><option v-for="cohort in apps.data.value ?? []" :key="cohort.app + cohort.name" :value="`${cohort.app}/${cohort.name}`">{{ cohort.app }}/{{ cohort.name }}</option></select></label>
    <BButton data-needs="keep-testers" type="submit" size="sm" variant="primary" :disabled="doing.busy.value || !into">Put them in</BButton>
    <BButton data-needs="keep-testers" size="sm" variant="link" @click="picked.only([])">Choose none</BButton>
  </form>
  <section v-if="testers.length" class="card-plain">
    <div class="scroll-x"><table class="table-plain">
      <thead><tr><th><input type="checkbox" class="form-check-input" aria-label="All that are shown" :checked="picked.all.value" :indeterminate="picked.some.value" @change="picked.pickAll" /></th><th>Who</th><th>Tests on</th><th>In cohorts</th><th>Agreed</th><th><span class="visually-hidden">Acts</span></th></tr></thead>
      <tbody>
        <template v-for="tester in testers" :key="tester.id">
          <tr>
            <td><input type="checkbox" class="form-check-input" :aria-label="`Choose ${tester.email}`" :checked="picked.has(tester)" @change="picked.pick(tester, $event)" /></td>
            <td>{{ tester.name || tester.email }}<br /><span class="soft small-print">{{ tester.email }}<template v-if="tester.tags.length"> · {{ tester.tags.join(', ') }}</template></span><span v-if="tester.bounced_at" class="care small-print"><br />✕ mail came back: {{ tester.bounce_said }}</span></td>
            <td>{{ tester.platforms.join(', ') || 'any platform' }}<br /><span class="soft small-print">{{ [...tester.devices, ...tester.languages].join(', ') }}</span></td>
            <td><RouterLink v-for="entry in tester.cohorts" :key="entry.app + entry.cohort" class="each" :to="`/apps/${entry.app}/cohorts/${entry.cohort}`">{{ entry.app }}/{{ entry.cohort }}</RouterLink><span v-if="!tester.cohorts.length" class="soft">none</span></td>
            <td class="soft small-print"><template v-if="tester.consented_at"><Moment :at="tester.consented_at" /><br />{{ tester.consent_how }}</template><template v-else>not known</template></td>
            <td><BButton data-needs="keep-testers" size="sm" variant="link" :aria-expanded="chosen === tester.id" @click="choose(tester)">Change</BButton></td>
          </tr>
          <tr v-if="chosen === tester.id"><td colspan="6">
            <form class="row-gap edit" @submit.prevent="keep(tester)">
              <label>Name <input v-model="edit.name" class="form-control form-control-sm" /></label>
              <label>Address <input v-model="edit.email" type="email" class="form-control form-control-sm" required /></label>
              <label>Platforms <input v-model="edit.platforms" class="form-control form-control-sm" placeholder="android ios desktop" /></label>
              <label>Languages <input v-model="edit.languages" class="form-control form-control-sm" placeholder="de en" /></label>
              <label>Tags <input v-model="edit.tags" class="form-control form-control-sm" /></label>
              <BButton data-needs="keep-testers" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Keep it</BButton>
              <BButton data-needs="keep-testers" size="sm" variant="link" @click="forgetting = forgetting === tester.id ? null : tester.id">Forget {{ tester.name || tester.email }} …</BButton>
            </form>
            <form v-if="forgetting === tester.id" class="row-gap edit forget" @submit.prevent="forget(tester)">
              <p>Everything personal goes for good, here and at the stores: address, name, devices, remarks, pictures. Counts stay. It cannot be undone.</p>
              <label class="grow">Why? (name nobody here) <input v-model="reason" class="form-control form-control-sm" /></label>
              <BButton data-needs="keep-testers" type="submit" size="sm" variant="danger" :disabled="doing.busy.value">Forget for good</BButton>
            </form>
          </td></tr>
        </template>
      </tbody>
    </table></div>
    <BButton v-if="!ended" size="sm" variant="outline-primary" @click="nextPage">Show more</BButton>
  </section>
  <p v-else-if="seen && search" class="soft">Nobody matches.</p>
  <EmptyState v-else-if="seen && !listing" title="Nobody tests yet">Make a cohort of an app and add people to it, or import a list.</EmptyState>
  <p v-if="!seen && !problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.find { width: 18rem; }
.order { width: auto; }
.several { margin-bottom: 0.8rem; }
.each { margin-right: 0.6rem; }
.edit { align-items: end; gap: 0.6rem; }
.edit label { display: grid; gap: 0.15rem; font-size: 0.85rem; }
.grow { flex: 1 1 16rem; }
.forget { border-left: 4px solid var(--alarm); padding-left: 0.8rem; margin-top: 0.6rem; }
.forget p { flex: 1 0 100%; margin: 0; }
.care { color: var(--care); }
</style>
