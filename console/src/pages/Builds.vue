<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type App, type Build, type Consignment, handOver, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { percent, size } from '../telling'

const props = defineProps<{ app: string }>()
const path = { app: props.app }
const { data, problem, load } = useLoading(async () => {
  const [builds, app] = await Promise.all([told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path } })), told<App>(api.GET('/v1/apps/{app}', { params: { path } }))])
  return { builds, app }
})
useLive(load, (change) => change.app === props.app || change.app === null)

const doing = useDoing()
const file = ref<HTMLInputElement | null>(null)
const part = ref<number | null>(null)
const answers = reactive<Record<string, Record<string, string>>>({})
const held = computed(() => (data.value?.builds ?? []).flatMap((build) => build.consignments.filter((entry) => entry.state === 'held').map((entry) => ({ build, entry }))))
const UNDER_WAY = ['queued', 'sending', 'processing']

function storesWithout(build: Build) {
  const there = new Set(build.consignments.map((entry) => entry.store))
  return (data.value?.app.berths ?? []).filter((berth) => berth.state === 'open' && berth.platform === build.platform && !there.has(berth.store))
}

function send(build: Build, store: string) {
  return doing.run(async () => {
    await told(api.POST('/v1/builds/{build}/consignments', { params: { path: { build: build.id } }, body: { store } }))
    await load()
  })
}

async function take(event: Event): Promise<void> {
  const chosen = (event.target as HTMLInputElement).files?.[0]
  if (!chosen) return
  await doing.run(async () => {
    part.value = 0
    const sha256 = await handOver(chosen, (now) => (part.value = now))
    await told(api.POST('/v1/apps/{app}/builds', { params: { path }, body: { packages: [sha256] } }))
    await load()
  })
  part.value = null
  if (file.value) file.value.value = ''
}

function answer(entry: Consignment) {
  return doing.run(async () => {
    await told(api.POST('/v1/consignments/{consignment}/answers', { params: { path: { consignment: entry.id } }, body: { answers: answers[entry.id] ?? {} } }))
    await load()
  })
}

function choose(entry: Consignment, code: string, choice: string): void {
  answers[entry.id] = { ...answers[entry.id], [code]: choice }
}

const complete = (entry: Consignment) => entry.questions.every((question) => answers[entry.id]?.[question.code])
</script>

<template>
  <AppHead :app="app" page="builds" title="Builds">
    <input ref="file" type="file" class="visually-hidden" accept=".apk,.ipa" tabindex="-1" aria-hidden="true" @change="take" />
    <BButton variant="primary" :disabled="doing.busy.value" @click="file?.click()">Hand in a package</BButton>
  </AppHead>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <div v-if="part !== null" class="card-plain arriving" role="status">
    <label for="arriving">The package is on its way to the desk: {{ percent(part) }}</label>
    <progress id="arriving" :value="part" max="1" />
  </div>
  <form v-for="{ build, entry } in held" :key="entry.id" class="card-plain question" @submit.prevent="answer(entry)">
    <h2>{{ entry.store_title }} holds {{ build.label }} and asks</h2>
    <p v-if="Object.keys(entry.answers).length" role="status">◌ Answered, not confirmed by the store yet. {{ entry.waiting_because }}</p>
    <template v-else>
      <fieldset v-for="question in entry.questions" :key="question.code">
        <legend>{{ question.text }}</legend>
        <p class="soft small-print">{{ question.help }}</p>
        <div class="row-gap">
          <label v-for="choice in question.choices" :key="choice" class="row-gap">
            <input type="radio" class="form-check-input" :name="entry.id + question.code" :value="choice" :checked="answers[entry.id]?.[question.code] === choice" @change="choose(entry, question.code, choice)" /> {{ choice }}
          </label>
        </div>
      </fieldset>
      <BButton type="submit" size="sm" variant="primary" :disabled="doing.busy.value || !complete(entry)">Answer</BButton>
    </template>
  </form>
  <template v-if="data">
    <div v-if="data.builds.length" class="card-plain scroll-x">
      <table class="table-plain">
        <thead><tr><th>Version</th><th>Platform</th><th>Entered</th><th>Needs</th><th>Size</th><th>Where it is</th></tr></thead>
        <tbody>
          <tr v-for="build in data.builds" :key="build.id">
            <td><strong>{{ build.label }}</strong><br /><span class="mono soft">{{ build.id }}</span></td>
            <td>{{ build.platform }}</td>
            <td><Moment :at="build.created_at" /></td>
            <td>{{ build.packages[0]?.lowest_platform ?? '–' }} or newer<br /><span class="soft small-print" :title="build.packages[0]?.permissions.join('\n')">{{ build.packages[0]?.permissions.length ?? 0 }} permissions</span></td>
            <td>{{ size(build.size_bytes) }}</td>
            <td>
              <div v-for="entry in build.consignments" :key="entry.id" class="where">
                {{ entry.store_title }} <PhaseWord :phase="entry.state" />
                <span v-if="entry.state === 'sending'">{{ percent(entry.sent_bytes / Math.max(entry.size_bytes, 1)) }}</span>
                <progress v-if="UNDER_WAY.includes(entry.state)" :aria-label="`${entry.state} at ${entry.store_title}`" />
                <p v-if="entry.reason" class="reason">{{ entry.reason }}</p>
                <p v-if="entry.waiting_because && entry.state !== 'held'" class="reason">Ordered, not confirmed: {{ entry.waiting_because }}</p>
              </div>
              <BButton v-for="berth in storesWithout(build)" :key="berth.store" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="send(build, berth.store)">Send to {{ berth.store_title }}</BButton>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <EmptyState v-else title="No builds yet">Hand in a package here, or from a build server: <code>tide build push FILE --app {{ app }} --store STORE --wait</code></EmptyState>
  </template>
</template>

<style scoped>
.arriving, .question { margin-bottom: 1rem; display: grid; gap: 0.5rem; }
.question { border-left: 4px solid var(--care); justify-items: start; }
.arriving progress { width: 100%; }
.where progress { width: 6rem; height: 0.5rem; }
.where { margin-bottom: 0.25rem; }
.reason { margin: 0.15rem 0 0; color: var(--soft); max-width: 26rem; }
legend { font-size: 1rem; margin: 0; }
fieldset p { margin: 0 0 0.35rem; }
</style>
