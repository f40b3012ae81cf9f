<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type Placement, told, type TrackCell } from '../api'
import AppHead from '../components/AppHead.vue'
import ConfirmButton from '../components/ConfirmButton.vue'
import EmptyState from '../components/EmptyState.vue'
import Explained from '../components/Explained.vue'
import MoveSheet, { type Move } from '../components/MoveSheet.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TrackCellCard from '../components/TrackCellCard.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { PRODUCTION, REPORT_KINDS } from '../states'

const props = defineProps<{ app: string }>()
const path = { app: props.app }
const { data, problem, load } = useLoading(async () => {
  const [board, rules, builds] = await Promise.all([
    told(api.GET('/v1/apps/{app}/tracks', { params: { path } })),
    told(api.GET('/v1/apps/{app}/track-rules', { params: { path } })),
    told(api.GET('/v1/apps/{app}/builds', { params: { path, query: { limit: 30 } } })),
  ])
  return { board, rules, builds }
})
useLive(load, (change) => !change.app || change.app === props.app)
const doing = useDoing()

const titles = computed(() => new Map((data.value?.board.stores ?? []).flatMap((row) => row.tracks.map((cell) => [cell.at, `${cell.title} of ${row.store_title}`] as const))))
const ordered = (tracks: TrackCell[]) => tracks.filter((cell) => cell.rank !== null)
const beside = (tracks: TrackCell[]) => tracks.filter((cell) => cell.rank === null)
const widest = computed(() => Math.max(1, ...(data.value?.board.stores ?? []).map((row) => ordered(row.tracks).length)))
/** Tracks in order from the left, production always in the last column. */
function column(cells: TrackCell[], place: number): string {
  return `${place === cells.length - 1 ? widest.value : place + 1}`
}

const move = ref<Move | null>(null)
const lifted = ref<{ store: string; placed: Placement; from: string } | null>(null)

function ask(source: string, placed: Placement, to: string): void {
  if (source !== to) move.value = { source, build: placed.build, label: placed.build_label, to: [to] }
}

function dropped(to: string): void {
  if (lifted.value) ask(lifted.value.from, lifted.value.placed, to)
  lifted.value = null
}

const placing = ref(false)
const chosen = reactive<{ build: string; to: string[] }>({ build: '', to: [] })
const picked = computed(() => data.value?.builds.find((entry) => entry.id === chosen.build))
/** The tracks of the stores that carry the build's platform. */
const fitting = computed(() => (data.value?.board.stores ?? []).filter((row) => row.platform === picked.value?.platform).flatMap((row) => row.tracks.map((cell) => ({ ...cell, store: row.store_title }))))

function place(): void {
  const build = picked.value
  if (!build || !chosen.to.length) return
  move.value = { source: null, build: build.id, label: build.label, to: [...chosen.to] }
  placing.value = false
}

async function moved(): Promise<void> {
  move.value = null
  await load()
}

const opening = ref('')
const own = reactive({ key: '', title: '' })
async function open(store: string): Promise<void> {
  const done = await doing.run(() => told(api.POST('/v1/apps/{app}/tracks', { params: { path }, body: { store, key: own.key, title: own.title, reason: '' } })), `The track ${own.title || own.key} is ordered at ${store}`)
  if (!done) return
  opening.value = ''
  Object.assign(own, { key: '', title: '' })
  void load()
}

const ruling = ref(false)
const rule = reactive({ source: '', to: '', hours: '', people: '', free: '', kinds: [] as string[], goAhead: false })
const sources = computed(() => (data.value?.board.stores ?? []).flatMap((row) => row.tracks.filter((cell) => cell.key !== PRODUCTION).map((cell) => ({ ...cell, said: `${cell.title} of ${row.store_title}`, targets: row.tracks.filter((other) => other.key !== cell.key) }))))
const source = computed(() => sources.value.find((entry) => entry.at === rule.source))
const whole = (text: string) => (text === '' ? null : Number(text))
async function makeRule(): Promise<void> {
  const body = { source: rule.source, to: rule.to || null, hours: whole(rule.hours), people: whole(rule.people), crash_free: rule.free === '' ? null : Number(rule.free) / 100, no_open: rule.kinds as never[], needs_go_ahead: rule.goAhead, reason: '' }
  if (await doing.run(() => told(api.POST('/v1/apps/{app}/track-rules', { params: { path }, body })), `Builds move up from ${source.value?.said ?? rule.source} by a rule`)) {
    ruling.value = false
    void load()
  }
}
async function endRule(id: string): Promise<void> {
  await doing.run(() => told(api.POST('/v1/apps/{app}/track-rules/{rule}/end', { params: { path: { ...path, rule: id } }, body: { reason: '' } })), 'The rule has ended')
  void load()
}
async function goAhead(id: string, build: string, label: string): Promise<void> {
  await doing.run(() => told(api.POST('/v1/apps/{app}/track-rules/{rule}/go-ahead', { params: { path: { ...path, rule: id } }, body: { build, reason: '' } })), `${label} has the go-ahead`)
  void load()
}
async function again(id: string, build: string): Promise<void> {
  await doing.run(() => told(api.POST('/v1/apps/{app}/track-rules/{rule}/retry', { params: { path: { ...path, rule: id } }, body: { build, reason: '' } })), 'The rule looks at it again')
  void load()
}
</script>

<template>
  <AppHead title="Tracks">
    <BButton data-needs="steer" variant="outline-primary" @click="ruling = !ruling">Move up by a rule</BButton>
    <BButton data-needs="steer" variant="primary" @click="placing = !placing">Place a build</BButton>
  </AppHead>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <template v-if="data">
    <form v-if="placing" class="card-plain stack" @submit.prevent="place">
      <h2>Place a build</h2>
      <label class="narrow">Build <select v-model="chosen.build" class="form-select" required @change="chosen.to = []"><option value="" disabled>Choose one</option><option v-for="build in data.builds" :key="build.id" :value="build.id">{{ build.label }}, {{ build.platform }}</option></select></label>
      <fieldset v-if="picked" class="to"><legend>On which tracks</legend>
        <label v-for="cell in fitting" :key="cell.at" class="check"><input v-model="chosen.to" type="checkbox" class="form-check-input" :value="cell.at" /> {{ cell.title }} <span class="soft">{{ cell.store }}</span></label>
      </fieldset>
      <div class="row-gap"><BButton data-needs="steer" type="submit" variant="primary" :disabled="!chosen.build || !chosen.to.length">See what it means</BButton><BButton variant="link" @click="placing = false">Cancel</BButton></div>
    </form>
    <form v-if="ruling" class="card-plain stack" @submit.prevent="makeRule">
      <h2>Move up by a rule</h2>
      <p class="soft">A build moves up automatically once everything that you ask for here is there. In production it is only drafted.</p>
      <div class="fields">
        <label>From <select v-model="rule.source" class="form-select" required><option value="" disabled>Choose a track</option><option v-for="entry in sources" :key="entry.at" :value="entry.at">{{ entry.said }}</option></select></label>
        <label>To <select v-model="rule.to" class="form-select"><option value="">the next track</option><option v-for="target in source?.targets ?? []" :key="target.key" :value="target.key">{{ target.title }}</option></select></label>
        <label>Hours there <input v-model="rule.hours" class="form-control" type="number" min="0.1" step="any" /></label>
        <label>People who have it <input v-model="rule.people" class="form-control" type="number" min="1" /></label>
        <label>Sessions without a crash, % <input v-model="rule.free" class="form-control" type="number" min="0" max="100" step="any" /></label>
      </div>
      <div class="row-gap"><label v-for="kind in REPORT_KINDS" :key="kind" class="check"><input v-model="rule.kinds" type="checkbox" class="form-check-input" :value="kind" /> no open {{ kind }}</label><label class="check"><input v-model="rule.goAhead" type="checkbox" class="form-check-input" /> and a go-ahead for each build</label></div>
      <div class="row-gap"><BButton data-needs="steer" type="submit" variant="primary" :disabled="doing.busy.value || !rule.source">Make the rule</BButton><BButton variant="link" @click="ruling = false">Cancel</BButton></div>
    </form>
    <MoveSheet v-if="move" :key="JSON.stringify(move)" :app="app" :move="move" class="asked" @close="move = null" @done="moved" />

    <section v-if="data.rules.length" class="card-plain rules" aria-labelledby="rules">
      <h2 id="rules">Rules</h2>
      <ul class="plain-list">
        <li v-for="entry in data.rules" :key="entry.id" class="rule">
          <div class="row-gap"><strong>{{ titles.get(entry.source) ?? entry.source }} → {{ titles.get(entry.target) ?? entry.target }}</strong> <span class="soft">after {{ entry.asks }}</span> <ConfirmButton data-needs="steer" said="End the rule" consequence="Nothing moves by it any more." sure="End it" @do="endRule(entry.id)" /></div>
          <ul class="plain-list under">
            <li v-for="build in entry.builds" :key="build.build" class="row-gap">
              <strong>{{ build.build_label }}</strong>
              <span v-if="build.trouble" class="alarm">✕ could not move up: {{ build.trouble }}</span>
              <span v-else-if="build.missing.length">◔ waits: {{ build.missing.join('; ') }}</span>
              <span v-else>▲ moves up now</span>
              <BButton data-needs="steer" v-if="entry.needs_go_ahead && !build.go_ahead" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="goAhead(entry.id, build.build, build.build_label)">Give the go-ahead</BButton>
              <BButton v-if="build.trouble" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="again(entry.id, build.build)">Look again</BButton>
            </li>
            <li v-if="!entry.builds.length" class="soft small-print">no build stands under it now</li>
          </ul>
        </li>
      </ul>
    </section>

    <div v-if="data.board.stores.length" class="stack">
      <section v-for="row in data.board.stores" :key="row.store" class="card-plain store" :aria-label="row.store_title">
        <header class="row-gap">
          <h2>{{ row.store_title }}</h2>
          <span class="soft small-print">Who may use several <Explained word="track" said="tracks" /> gets {{ row.gets }}.</span>
          <BButton data-needs="steer" v-if="row.own_most" size="sm" variant="link" class="end" @click="opening = opening === row.store ? '' : row.store">{{ opening === row.store ? 'Close' : 'Open a track of your own' }}</BButton>
        </header>
        <form v-if="opening === row.store" class="row-gap own" @submit.prevent="open(row.store)">
          <label>Short name <input v-model="own.key" class="form-control form-control-sm" required pattern="[a-z0-9][a-z0-9-]*" placeholder="harbour-staff" /></label>
          <label>Title <input v-model="own.title" class="form-control form-control-sm" placeholder="Harbour staff" /></label>
          <BButton data-needs="steer" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Open it</BButton>
          <span class="soft small-print">{{ row.own_most }} at most. Cohorts are put on it from their own page.</span>
        </form>
        <div class="ladder" :style="{ '--columns': widest }">
          <div v-if="ordered(row.tracks).length > 1 && ordered(row.tracks).length < widest" class="gap" aria-hidden="true" :style="{ gridColumn: `${ordered(row.tracks).length} / ${widest}` }" />
          <div v-for="(cell, place) in ordered(row.tracks)" :key="cell.key" class="slot" :style="{ gridColumn: column(ordered(row.tracks), place) }">
            <TrackCellCard :app="app" :store="row.store_title" :cell="cell" :targets="row.tracks" :dragged="lifted?.store === row.store" @move="(placed, to) => ask(cell.at, placed, to)" @lift="(placed) => (lifted = placed && { store: row.store, placed, from: cell.at })" @drop="dropped(cell.at)" />
          </div>
        </div>
        <template v-if="beside(row.tracks).length">
          <h3 class="soft">Beside the order</h3>
          <div class="ladder" :style="{ '--columns': widest }">
            <TrackCellCard v-for="cell in beside(row.tracks)" :key="cell.key" :app="app" :store="row.store_title" :cell="cell" :targets="row.tracks" :dragged="lifted?.store === row.store" @move="(placed, to) => ask(cell.at, placed, to)" @lift="(placed) => (lifted = placed && { store: row.store, placed, from: cell.at })" @drop="dropped(cell.at)" />
          </div>
        </template>
      </section>
    </div>
    <EmptyState v-else title="No store carries this app yet">Open a berth for it on the <RouterLink to="/stores">Stores</RouterLink> page; its tracks stand here then.</EmptyState>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.store { display: grid; gap: 0.7rem; grid-template-columns: minmax(0, 1fr); }
.ladder { display: grid; gap: 0.7rem; grid-template-columns: repeat(var(--columns), minmax(0, 1fr)); }
.slot { display: grid; grid-row: 1; }
.gap { grid-row: 1; align-self: start; margin-top: 1.4rem; height: 0; border-top: 2px dotted var(--line); }
.end { margin-left: auto; }
h3 { font-size: 0.9rem; margin: 0.2rem 0 0; }
.asked, .rules, form { margin-bottom: 1rem; }
.fields { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(13rem, 100%), 1fr)); gap: 0.6rem 1rem; }
.fields label, .own label, .narrow { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.narrow { max-width: 22rem; }
.to { display: flex; flex-wrap: wrap; gap: 0.3rem 1.2rem; }
.rule + .rule { border-top: 1px solid var(--line); margin-top: 0.5rem; padding-top: 0.5rem; }
.under { padding-left: 1rem; }
.alarm { color: var(--alarm); }
@media (max-width: 44rem) {
  .ladder { grid-template-columns: minmax(0, 1fr); }
  .slot { grid-column: 1 !important; grid-row: auto; }
  .gap { display: none; }
}
</style>
