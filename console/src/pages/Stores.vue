<script setup lang="ts">
import { reactive, ref, watch } from 'vue'

import { api, type App, Problem, type Store, told } from '../api'
import BerthOffer from '../components/BerthOffer.vue'
import EmptyState from '../components/EmptyState.vue'
import Explained from '../components/Explained.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StoreCard from '../components/StoreCard.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'

const { data, problem, load } = useLoading(async () => {
  const [stores, apps] = await Promise.all([told<Store[]>(api.GET('/v1/stores')), told<App[]>(api.GET('/v1/apps'))])
  return { stores, apps }
})
useLive(load)
const doing = useDoing()
const connecting = ref(false)
const registering = ref(false)
const carrying = ref(false)
const offering = ref('')
const keySteps = ref<string[]>([])
watch(connecting, async (on) => {
  if (on && !keySteps.value.length) keySteps.value = (await told(api.GET('/v1/stores/key-steps'))).steps
})
const store = reactive({ name: '', file: '' })
const app = reactive({ name: '', title: '', android: '', ios: '', desktop: '' })
const berth = reactive({ app: '', store: '', name: '', language: 'en' })

/** What the act changed is loaded beside: its form closes at once, so that a press that follows meets the page as it stands. */
async function act(work: () => Promise<unknown>, said: string): Promise<boolean> {
  const done = await doing.run(work, said)
  if (done) void load()
  return done
}

async function read(event: Event): Promise<void> {
  store.file = (await (event.target as HTMLInputElement).files?.[0]?.text()) ?? ''
}

async function connect(): Promise<void> {
  const done = await act(async () => {
    let connection: Record<string, unknown>
    try {
      connection = JSON.parse(store.file) as Record<string, unknown>
    } catch {
      throw new Problem(422, 'Choose the file the store handed out, unchanged.', 'This is no connection file: it is not JSON.')
    }
    await told(api.POST('/v1/stores', { body: { name: store.name, connection } }))
  }, `${store.name} is connected`)
  store.file = ''
  if (done) connecting.value = false
}

async function carry(): Promise<void> {
  if (await act(() => told(api.POST('/v1/carried-stores', { body: { name: store.name, rulebook: store.file } })), `${store.name} is carried by hand`)) carrying.value = false
  store.file = ''
}

async function register(): Promise<void> {
  const identifiers = Object.fromEntries(Object.entries({ android: app.android, ios: app.ios, desktop: app.desktop }).filter(([, value]) => value))
  if (await act(() => told(api.POST('/v1/apps', { body: { name: app.name, title: app.title, identifiers } })), `${app.title} is registered`)) registering.value = false
}

async function open(): Promise<void> {
  const [app, body] = [berth.app, { store: berth.store, listed_name: berth.name, language: berth.language }]
  const done = await act(() => told(api.POST('/v1/apps/{app}/berths', { params: { path: { app } }, body })), `A berth at ${berth.store} is ordered`)
  if (done && berth.app === app && berth.store === body.store) berth.app = ''
}

const renaming = ref('')
const newName = ref('')

function nameAt(known: App, at: App['berths'][number]): void {
  renaming.value = known.name + at.store
  newName.value = at.listed_name
}

async function rename(known: App, at: App['berths'][number]): Promise<void> {
  const order = (name: string) => told(api.POST('/v1/apps/{app}/berths/{store}/names', { params: { path: { app: known.name, store: at.store } }, body: { name, reason: '' } })).then(load)
  const before = at.listed_name
  if (await doing.run(() => order(newName.value), `${newName.value} is ordered as the name at ${at.store_title}`, () => order(before))) renaming.value = ''
}

function ask(known: App, at: string): void {
  Object.assign(berth, { app: known.name, store: at, name: known.title, language: 'en' })
}

const without = (known: App) => (data.value?.stores ?? []).filter((entry) => entry.platforms.some((platform) => platform in known.identifiers) && !known.berths.some((there) => there.store === entry.name && there.state !== 'refused'))
</script>

<template>
  <div class="page-head">
    <h1>Stores</h1>
    <div class="row-gap">
      <BButton data-needs="arrange-apps" variant="outline-primary" @click="registering = !registering">Register an app</BButton>
      <BButton data-needs="arrange-desk" variant="outline-primary" @click="carrying = !carrying">Carry one by hand</BButton>
      <BButton data-needs="arrange-desk" variant="primary" @click="connecting = !connecting">Connect a store</BButton>
    </div>
  </div>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <form v-if="connecting" class="card-plain stack form" @submit.prevent="connect">
    <h2>Connect a store</h2>
    <details><summary>How to make a key at the store</summary><ol><li v-for="line in keySteps" :key="line">{{ line }}</li></ol></details>
    <p class="soft">Choose the connection file that the store handed out. The desk tries it at once, says what the key may, and keeps it sealed. A second account at the same store gets a name of its own; a known name gets the new key.</p>
    <label>Short name <input v-model="store.name" class="form-control" required placeholder="northgate" /></label>
    <label>Connection file <input type="file" class="form-control" accept=".json,application/json" required @change="read" /></label>
    <div><BButton data-needs="arrange-desk" type="submit" variant="primary" :disabled="doing.busy.value || !store.file">{{ doing.busy.value ? 'Trying it …' : 'Try and connect' }}</BButton></div>
  </form>
  <form v-if="carrying" class="card-plain stack form" @submit.prevent="carry">
    <h2>Carry a store by hand</h2>
    <p class="soft">For a store without a gateway. Its rulebook is a file (docs/rulebooks.md); its orders become steps, with the files and texts prepared. A new rulebook for a known one is chosen here, too.</p>
    <label>Short name <input v-model="store.name" class="form-control" required placeholder="wrackline" /></label>
    <label>Rulebook <input type="file" class="form-control" accept=".toml" required @change="read" /></label>
    <div><BButton data-needs="arrange-desk" type="submit" variant="primary" :disabled="doing.busy.value || !store.file">Keep it</BButton></div>
  </form>

  <form v-if="registering" class="card-plain stack form" @submit.prevent="register">
    <h2>Register an app</h2>
    <p class="soft">The identifier of a platform is fixed for life once a build has been handed in.</p>
    <label>Title <input v-model="app.title" class="form-control" required placeholder="Marram" /></label>
    <label>Short name <input v-model="app.name" class="form-control" required placeholder="marram" /></label>
    <label>Identifier on Android <input v-model="app.android" class="form-control" placeholder="org.example.marram" /></label>
    <label>Identifier on iOS <input v-model="app.ios" class="form-control" placeholder="org.example.marram" /></label>
    <label>Identifier on desktops <input v-model="app.desktop" class="form-control" placeholder="org.example.marram" /></label>
    <div><BButton data-needs="arrange-apps" type="submit" variant="primary" :disabled="doing.busy.value">Register it</BButton></div>
  </form>

  <template v-if="data">
    <div v-if="data.stores.length" class="stores">
      <StoreCard v-for="known in data.stores" :key="known.name" :store="known" @changed="load" />
    </div>
    <EmptyState v-else-if="!connecting" title="No store is connected yet">Connect one with the file it handed out. For the stand-in stores of the demo, make one with <code>tide standin connection northgate FILE</code>.</EmptyState>

    <div class="page-head apps-head"><h2>Apps and their <Explained word="berth" said="berths" /></h2></div>
    <div v-if="data.apps.length" class="card-plain scroll-x">
      <table class="table-plain">
        <thead><tr><th>App</th><th>Identifiers</th><th>Berths</th></tr></thead>
        <tbody>
          <tr v-for="known in data.apps" :key="known.name">
            <td><strong>{{ known.title }}</strong><br /><span class="mono soft">{{ known.name }}</span></td>
            <td><div v-for="(value, platform) in known.identifiers" :key="platform"><span class="soft">{{ platform }}</span> <span class="mono">{{ value }}</span></div></td>
            <td>
              <div v-for="there in known.berths" :key="there.store">
                {{ there.store_title }} <PhaseWord :phase="there.state" /> <span class="soft">as {{ there.listed_name }}, {{ there.offered }}</span>
                <BButton data-needs="arrange-apps" v-if="there.state === 'open'" size="sm" variant="link" class="change" :aria-expanded="offering === known.name + there.store" @click="offering = offering === known.name + there.store ? '' : known.name + there.store">{{ offering === known.name + there.store ? 'Close' : 'Price, countries, who' }}</BButton>
                <BButton data-needs="arrange-apps" v-if="there.state === 'open' && renaming !== known.name + there.store" size="sm" variant="link" class="change" @click="nameAt(known, there)">Change the name</BButton>
                <form v-if="renaming === known.name + there.store" class="row-gap form berth" @submit.prevent="rename(known, there)"><label>Name at {{ there.store_title }} <input v-model="newName" class="form-control form-control-sm" required /></label><BButton data-needs="arrange-apps" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Order it</BButton><BButton size="sm" variant="link" @click="renaming = ''">Cancel</BButton></form>
                <span v-if="there.pending.length && there.state === 'open'" class="soft">◌ {{ there.pending.join(', ') }} ordered, not confirmed</span>
                <BerthOffer v-if="offering === known.name + there.store" :app="known.name" :store="there.store" @done="((offering = ''), load())" />
                <span v-if="there.refused_because" class="refused">{{ there.refused_because }}</span>
                <span v-if="there.state === 'ordered'" class="soft"> ordered, not confirmed {{ there.waiting_because }}</span>
              </div>
              <BButton data-needs="arrange-apps" v-for="at in without(known)" :key="at.name" size="sm" variant="outline-primary" class="open" @click="ask(known, at.name)">{{ known.berths.some((there) => there.store === at.name) ? `Try again at ${at.title}` : `Open at ${at.title}` }}</BButton>
              <form v-if="berth.app === known.name" class="row-gap form berth" @submit.prevent="open">
                <label>Name at the store <input v-model="berth.name" class="form-control form-control-sm" required /></label>
                <label>First language <input v-model="berth.language" class="form-control form-control-sm" required size="5" /></label>
                <BButton data-needs="arrange-apps" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Open the berth</BButton>
              </form>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <EmptyState v-else-if="!registering" title="No app is registered yet">Register one with its identifier on each platform.</EmptyState>
  </template>
</template>

<style scoped>
.form { margin-bottom: 1rem; max-width: 44rem; }
.form label { display: grid; gap: 0.25rem; }
.form p { margin: 0; }
.berth { margin: 0.5rem 0 0; align-items: end; }
.open { margin: 0.3rem 0.4rem 0 0; }
.change { padding: 0 0.3rem; }
.form ol { margin: 0.4rem 0; padding-left: 1.3rem; }
.form summary { color: var(--accent); }
.stores { columns: 26rem; column-gap: 1rem; }
.stores > * { break-inside: avoid; margin-bottom: 1rem; }
.refused { display: block; color: var(--alarm); }
.apps-head { margin: 1.75rem 0 0.75rem; }
</style>
