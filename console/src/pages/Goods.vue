<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, Problem, told } from '../api'
import AppHead from '../components/AppHead.vue'
import DossierStanding from '../components/DossierStanding.vue'
import DossierTabs from '../components/DossierTabs.vue'
import Explained from '../components/Explained.vue'
import GoodForm from '../components/GoodForm.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { asProblem, useLoading } from '../loading'
import { type Entered, type Good, type Goods, KINDS, priced, standing, type StoreGoods } from '../selling'
import { differs, toRight, useSending } from '../sending'

/** What is sold inside an app: entered once, and where it stands at each store. */
const props = defineProps<{ app: string }>()
const route = useRoute()
const path = { app: props.app }
const { data, problem, load, keep } = useLoading<Goods>(() => told(api.GET('/v1/apps/{app}/dossier/goods', { params: { path } })))
useLive(load, (change) => change.app === props.app || change.app === null)
const { doing, send, takeOver } = useSending(props.app, load)

/** The reference of the good that is being changed; an empty one: a new good. */
const open = ref<string | null>(null)
/** The revision that was read when its form was opened. */
const revision = ref(0)
const stores = computed(() => data.value?.stores ?? [])
const first = computed(() => stores.value[0]?.language ?? 'en')
const kept = (store: StoreGoods) => store.goods.filter((one) => one.state.startsWith('waits')).length
const lacking = (store: StoreGoods) => store.findings.filter((one) => one.level === 'blocker').length
const sendable = (store: StoreGoods) => store.differing > kept(store)
const atStores = computed(() =>
  stores.value.map((store) => ({
    ...store,
    sendable: sendable(store),
    unfit: lacking(store) > 0,
    kept: kept(store),
    settled: !lacking(store) && !store.differing,
    said: lacking(store) ? toRight(lacking(store)) : store.differing ? differs(store.differing, 'good', 'goods') : store.goods.length ? '✓ holds the goods as they are here' : 'sells nothing inside it',
  })),
)
const at = (reference: string) => stores.value.flatMap((store) => store.goods.filter((one) => one.reference === reference).map((good) => ({ store, good })))
const saying = (store: StoreGoods, reference: string) => store.findings.filter((one) => one.place === `goods.${reference}`)
const words = (good: Good) => Object.entries(good.texts)

function edit(one: Entered | null): void {
  open.value = one?.reference ?? ''
  revision.value = one?.revision ?? 0
}
watch(data, async (now, before) => {
  const asked = String(route.query.good ?? '')
  if (before || !asked || !now) return
  await nextTick()
  bring(asked)
})
/** Bring a good into view, ready to be changed. */
function bring(reference: string): void {
  const card = document.getElementById(`good-${reference}`)
  card?.scrollIntoView({ block: 'center' })
  card?.querySelector<HTMLElement>('button')?.focus()
}
function toFirst(name: string): void {
  const found = stores.value.find((store) => store.store === name)?.findings.find((one) => one.level === 'blocker')
  bring(found?.place.split('.').slice(1).join('.') ?? '')
}

async function put(reference: string, good: Good | null, at: number): Promise<void> {
  keep(await told(api.PUT('/v1/apps/{app}/dossier/goods/{reference}', { params: { path: { ...path, reference }, header: { 'if-match': `"${at}"` } }, body: { good } })))
}
async function save(reference: string, good: Good): Promise<Problem | null> {
  try {
    await put(reference, good, revision.value)
    return null
  } catch (wrong) {
    await load()
    return asProblem(wrong)
  }
}
const drop = (one: Entered) => doing.run(() => put(one.reference, null, one.revision), `${one.reference} is taken out`, () => put(one.reference, one.good, 0))
</script>

<template>
  <AppHead title="Dossier">
    <BButton data-needs="prepare" v-if="stores.some(sendable) && !stores.some(lacking)" variant="primary" :disabled="doing.busy.value" @click="send(null)">Send what differs</BButton>
  </AppHead>
  <DossierTabs :app="app" />
  <p class="soft intro">A <Explained word="good" /> is entered once. Every store gets it as it sells such goods; its reference stays for ever.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <template v-if="data">
    <DossierStanding
      label="Where the goods stand" :stores="atStores" :words="{ one: 'good', many: 'goods', all: 'goods', done: 'entered' }" none="No store where this app has a place sells goods inside apps."
      :busy="doing.busy.value" @send="send" @take="takeOver" @first="toFirst"
    />

    <section v-if="open === ''" class="card-plain entry" aria-label="A new good">
      <h2>A new good</h2>
      <GoodForm reference="" :good="null" :stores="stores" :first="first" :known="data.goods.map((one) => one.reference)" :save="save" @close="open = null" />
    </section>
    <p v-else><BButton data-needs="prepare" variant="outline-primary" size="sm" @click="edit(null)">Enter a good</BButton></p>
    <p v-if="!data.goods.length && open === null" class="soft">Nothing is sold inside this app.</p>

    <section v-for="one in data.goods" :id="`good-${one.reference}`" :key="one.reference" class="card-plain entry" :aria-label="one.reference">
      <header class="row-gap">
        <img v-if="one.good.picture" :src="`/v1/pictures/${one.good.picture}/small`" :alt="`The picture of ${one.reference}`" />
        <h2>{{ one.reference }}</h2>
        <span>{{ priced(one.good) }}</span>
        <span class="soft">{{ KINDS[one.good.kind] }}</span>
        <span v-if="!one.good.on_sale" class="soft">· not on sale</span>
        <span class="soft small-print">changed by {{ one.changed_by }}</span>
        <span v-if="open !== one.reference" class="row-gap acts">
          <BButton data-needs="prepare" size="sm" variant="link" @click="edit(one)">Change it</BButton>
          <BButton data-needs="prepare" size="sm" variant="link" :disabled="doing.busy.value" @click="drop(one)">Take it out</BButton>
        </span>
      </header>
      <GoodForm v-if="open === one.reference" :reference="one.reference" :good="one.good" :stores="stores" :first="first" :known="[]" :save="save" @close="open = null" />
      <template v-else>
        <dl class="texts"><template v-for="[locale, text] in words(one.good)" :key="locale"><dt>{{ locale }}</dt><dd><b>{{ text.name }}</b> <span class="soft">{{ text.description }}</span></dd></template></dl>
        <ul class="plain-list takers">
          <li v-for="{ store, good } in at(one.reference)" :key="store.store">
            <span class="who">{{ store.store_title }}</span>
            <span>{{ standing(good) }}</span>
            <p v-for="said in saying(store, one.reference)" :key="said.detail" class="said" :class="said.level === 'blocker' ? 'problem' : 'remark'">{{ said.level === 'blocker' ? '✕' : '▲' }} {{ said.detail }}</p>
          </li>
          <li v-if="!at(one.reference).length" class="soft">No store gets it.</li>
        </ul>
      </template>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.entry { margin-bottom: 0.9rem; }
.entry header img { width: 2.6rem; height: 2.6rem; object-fit: contain; border-radius: 0.4rem; }
.acts { margin-left: auto; }
.texts { display: grid; grid-template-columns: 3.5rem minmax(0, 1fr); gap: 0.15rem 0.9rem; margin: 0.5rem 0 0; }
.texts dt { font-weight: 400; color: var(--soft); }
.texts dd { margin: 0; overflow-wrap: anywhere; }
.takers li { grid-template-columns: minmax(6rem, 10rem) minmax(0, 1fr); }
.said { grid-column: 2; margin: 0.1rem 0; }
@media (max-width: 760px) { .takers li { grid-template-columns: minmax(0, 1fr); } .said { grid-column: 1; } .acts { margin-left: 0; } }
</style>
