<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, told } from '../api'
import AppHead from '../components/AppHead.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import PlacedBuild from '../components/PlacedBuild.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { audienceOf } from '../tracking'

const props = defineProps<{ app: string; store: string; track: string }>()
const path = { app: props.app, store: props.store, track: props.track }
const { data, problem, load } = useLoading(() => told(api.GET('/v1/apps/{app}/tracks/{store}/{track}', { params: { path } })))
useLive(load, (change) => !change.app || change.app === props.app)
const doing = useDoing()
const acting = ref<'' | 'clear' | 'close' | 'rename'>('')
const reason = ref('')
const title = ref('')
const standing = computed(() => [...(data.value?.holds ?? []), ...(data.value?.coming ?? [])])

async function act(): Promise<void> {
  const name = data.value?.title ?? ''
  const body = { reason: reason.value }
  const done = await doing.run(
    () =>
      acting.value === 'clear'
        ? told(api.POST('/v1/apps/{app}/tracks/{store}/{track}/clear', { params: { path }, body }))
        : acting.value === 'close'
          ? told(api.POST('/v1/apps/{app}/tracks/{store}/{track}/close', { params: { path }, body }))
          : told(api.PATCH('/v1/apps/{app}/tracks/{store}/{track}', { params: { path }, body: { ...body, title: title.value } })),
    { clear: `${name} is cleared`, close: `Closing ${name} is ordered`, rename: `The title ${title.value} is ordered`, '': '' }[acting.value],
  )
  if (!done) return
  acting.value = ''
  reason.value = ''
  void load()
}
</script>

<template>
  <AppHead :title="data ? `${data.title} of ${data.store_title}` : 'Track'">
    <RouterLink class="btn btn-outline-primary" :to="`/apps/${app}/tracks`">All tracks</RouterLink>
    <BButton data-needs="steer" v-if="data?.own && data.state === 'open'" variant="outline-primary" @click="(acting = 'rename'), (title = data.title)">Rename</BButton>
    <BButton data-needs="steer" v-if="data?.own && data.state === 'open' && !standing.length" variant="outline-primary" @click="acting = 'close'">Close the track</BButton>
    <BButton data-needs="steer" v-if="standing.length" variant="outline-primary" @click="acting = 'clear'">Clear it</BButton>
  </AppHead>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <template v-if="data">
    <form v-if="acting" class="card-plain stack" @submit.prevent="act">
      <p v-if="acting === 'clear'">Nobody new gets a build over {{ data.title }}: its trials end, and a release is withdrawn there. Who has it keeps it.</p>
      <p v-else-if="acting === 'close'">The track is closed at {{ data.store_title }}; cohorts that used it use the store's own again.</p>
      <label v-if="acting === 'rename'">Title <input v-model="title" class="form-control" required maxlength="80" /></label>
      <label>Why? It stands in the logbook. <input v-model="reason" class="form-control" :required="acting === 'clear'" /></label>
      <div class="row-gap"><BButton data-needs="steer" type="submit" :variant="acting === 'clear' ? 'danger' : 'primary'" :disabled="doing.busy.value">{{ { clear: 'Clear it now', close: 'Close it', rename: 'Order it' }[acting] }}</BButton><BButton variant="link" @click="acting = ''">Cancel</BButton></div>
    </form>
    <div class="two">
      <section class="card-plain stack" aria-labelledby="now">
        <h2 id="now">Now</h2>
        <p class="soft">{{ audienceOf(data) }}</p>
        <PlacedBuild v-for="placed in data.holds" :key="placed.build + (placed.trial ?? '')" :app="app" :placed="placed" />
        <p v-if="!data.holds.length" class="soft">It holds nothing.</p>
      </section>
      <section v-if="data.coming.length" class="card-plain stack" aria-labelledby="next">
        <h2 id="next">Comes next</h2>
        <PlacedBuild v-for="placed in data.coming" :key="placed.build + (placed.trial ?? '')" :app="app" :placed="placed" />
      </section>
    </div>
    <section class="card-plain" aria-labelledby="past">
      <h2 id="past">What it held</h2>
      <div v-if="data.history.length" class="scroll-x">
        <table class="table-plain">
          <thead><tr><th>Build</th><th>From</th><th>Until</th><th>State</th><th>Who and why</th></tr></thead>
          <tbody>
            <tr v-for="past in data.history" :key="past.placement.build + (past.placement.trial ?? past.placement.release)">
              <td><RouterLink :to="past.placement.release ? `/apps/${app}/releases/${past.placement.release}` : `/trials/${past.placement.trial}`">{{ past.placement.build_label }}</RouterLink><div v-if="past.placement.cohort" class="soft small-print">{{ past.placement.cohort }}</div></td>
              <td><Moment v-if="past.placement.since" :at="past.placement.since" /><span v-else class="soft">not yet</span></td>
              <td><Moment :at="past.placement.until" /></td>
              <td><PhaseWord :phase="past.placement.phase" /></td>
              <td><div v-for="line in past.lines.slice(0, 6)" :key="line.id" class="small-print">{{ line.act }} by {{ line.who }}<template v-if="line.reason">: {{ line.reason }}</template></div></td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-else class="soft">It never held a build.</p>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.two { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(20rem, 100%), 1fr)); gap: 1rem; margin-bottom: 1rem; }
form { margin-bottom: 1rem; }
form label { display: grid; gap: 0.2rem; max-width: 34rem; }
p { margin: 0; }
</style>
