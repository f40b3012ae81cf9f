<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, type App, type Build, type Comparison, told } from '../api'
import DifferenceTable from '../components/DifferenceTable.vue'
import FactsSheet from '../components/FactsSheet.vue'
import History from '../components/History.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import PushSheet from '../components/PushSheet.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { place } from '../place'
import { percent, platformName, size } from '../telling'

const props = defineProps<{ app: string; build: string }>()
const { data, problem, load } = useLoading(async () => {
  const [build, app, others, board] = await Promise.all([
    told<Build>(api.GET('/v1/builds/{build}', { params: { path: { build: props.build } } })),
    told<App>(api.GET('/v1/apps/{app}', { params: { path: { app: props.app } } })),
    told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path: { app: props.app }, query: { limit: 200 } } })),
    told(api.GET('/v1/apps/{app}/tracks', { params: { path: { app: props.app } } })),
  ])
  const cells = board.stores.flatMap((row) => row.tracks.map((cell) => ({ ...cell, said: `${cell.title} of ${row.store_title}` })))
  const on = cells.flatMap((cell) => [...cell.holds, ...cell.coming].filter((placed) => placed.build === build.id).map((placed) => ({ cell, placed })))
  place.value = { app: build.app, list: 'builds', said: build.label }
  return { build, app, on, others: others.filter((other) => other.platform === build.platform && other.id !== build.id) }
})
useLive(load, (change) => change.app === props.app || change.app === null)

const against = ref('')
const comparison = ref<Comparison | null>(null)
const comparing = useDoing()
const sending = ref(false)
const earlier = computed(() => data.value?.others.find((other) => other.created_at < data.value!.build.created_at))
const openElsewhere = computed(() => data.value?.app.berths.some((berth) => berth.state === 'open' && berth.platform === data.value!.build.platform && !data.value!.build.consignments.some((entry) => entry.store === berth.store)))
const pictured = computed(() => data.value?.build.packages.find((entry) => entry.icon?.media_type && !data.value!.build.cleared))

watch(earlier, (found) => { if (found && !against.value) against.value = found.id })
watch(against, async (other) => {
  comparison.value = null
  if (other) await comparing.run(async () => void (comparison.value = await told(api.GET('/v1/builds/{build}/comparison', { params: { path: { build: other }, query: { to: props.build } } }))))
})

function sent(): void {
  sending.value = false
  void load()
}
</script>

<template>
  <ProblemNote :problem="problem" />
  <template v-if="data">
    <div class="page-head">
      <div class="row-gap">
        <img v-if="pictured" :src="`/v1/packages/${pictured.sha256}/icon`" :alt="`The icon of ${data.app.title}`" width="52" height="52" />
        <div>
          <h1>{{ data.app.title }} {{ data.build.label }}</h1>
        </div>
      </div>
      <BButton data-needs="hand-in" v-if="openElsewhere && !data.build.cleared" variant="primary" @click="sending = !sending">Send on</BButton>
    </div>
    <PushSheet v-if="sending" :app="data.app" :facts="data.build.packages" :build="data.build.id" @done="sent" @leave="sending = false" />
    <div class="stack">
      <section class="card-plain">
        <p class="soft small-print line">For {{ platformName(data.build.platform) }} · {{ size(data.build.size_bytes) }} in {{ data.build.packages.length }} package{{ data.build.packages.length === 1 ? '' : 's' }} · entered <Moment :at="data.build.created_at" /><template v-if="data.build.revision"> · made of <span class="mono">{{ data.build.revision.slice(0, 10) }}</span><template v-if="data.build.repository"> in {{ data.build.repository }}</template></template></p>
        <p v-for="entry in data.build.consignments" :key="entry.id" class="line">{{ entry.store_title }} <PhaseWord :phase="entry.state" /> <span class="soft small-print"><Moment :at="entry.changed_at" /></span> <span v-if="entry.reason">{{ entry.reason }}</span></p>
        <p v-if="!data.build.consignments.length" class="soft line">At the desk only; nothing was sent to a store.</p>
        <p v-if="data.build.cleared" class="line">– Its files were cleared; push them again before it can be sent.</p>
        <p v-else-if="data.build.in_use" class="soft line">Its files are kept: {{ data.build.in_use }}.</p>
        <p v-if="data.build.expires_at" class="line">◔ Nobody can start it after <Moment :at="data.build.expires_at" />.</p>
      </section>
      <section v-if="data.on.length" class="card-plain" aria-labelledby="on-tracks">
        <h2 id="on-tracks">On tracks</h2>
        <ul class="plain-list on">
          <li v-for="{ cell, placed } in data.on" :key="cell.at + (placed.trial ?? '')"><RouterLink :to="`/apps/${props.app}/tracks/${cell.at}`">{{ cell.said }}</RouterLink> <PhaseWord :phase="placed.phase" /> <template v-if="placed.release && placed.share > 0 && placed.share < 1">at {{ percent(placed.share) }}</template> <span v-if="placed.cohort" class="soft">{{ placed.cohort }}</span></li>
        </ul>
      </section>
      <section class="card-plain" aria-labelledby="differs">
        <div class="page-head differs">
          <h2 id="differs">What differs</h2>
          <label class="row-gap">from <select v-model="against" class="form-select form-select-sm"><option value="">no other build</option><option v-for="other in data.others" :key="other.id" :value="other.id">{{ other.label }} · {{ other.id }}</option></select></label>
        </div>
        <ProblemNote :problem="comparing.problem.value" />
        <DifferenceTable v-if="comparison" :comparison="comparison" />
        <p v-else-if="!data.others.length" class="soft">It is the first build for {{ platformName(data.build.platform) }}.</p>
      </section>
      <section v-for="facts in data.build.packages" :key="facts.sha256" class="card-plain" aria-label="What the package says">
        <FactsSheet :facts="facts" />
      </section>
    </div>
    <History :app="app" :about="data.build.id" />
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.trail, .line { margin: 0; }
img { border-radius: 0.7rem; }
.differs { margin-bottom: 0.5rem; }
.differs select { width: auto; }
</style>
