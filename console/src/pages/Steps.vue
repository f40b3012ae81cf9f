<script setup lang="ts">
import { reactive } from 'vue'

import { api, type Step, told } from '../api'
import EmptyState from '../components/EmptyState.vue'
import Explained from '../components/Explained.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { usePaged } from '../paged'
import { size } from '../telling'

const PAGE = 15
const { data: waiting, problem, load: ask } = useLoading(() => told<Step[]>(api.GET('/v1/steps', { params: { query: { state: 'waiting' } } })))
const settled = usePaged<Step>(
  PAGE,
  (after) => told(api.GET('/v1/steps', { params: { query: { state: 'settled', after: after || undefined, limit: PAGE } } })),
  (step) => step.id,
  [],
)
const load = () => Promise.all([ask(), settled.begin()])
useLive(ask)
useLive(settled.refresh)

const doing = useDoing()
const words = reactive<Record<string, string>>({})
const copied = reactive<Record<string, boolean>>({})
const REFUSALS = ['refused', 'rejected']
const WORDS: Record<string, string> = { done: 'Done', refused: 'The store refused', ready: 'It is ready', approved: 'Approved', rejected: 'Rejected' }

async function settle(step: Step, outcome: string): Promise<void> {
  const done = await doing.run(() => told(api.POST('/v1/steps/{step}/outcome', { params: { path: { step: step.id } }, body: { outcome, said: words[step.id] ?? '' } })), `${step.title}: ${outcome}`)
  if (done) await load()
}
async function undo(step: Step): Promise<void> {
  if (await doing.run(() => told(api.POST('/v1/steps/{step}/undo', { params: { path: { step: step.id } }, body: { reason: 'undone from the console' } })), `${step.title}: waits again`)) await load()
}
async function copy(key: string, text: string): Promise<void> {
  await navigator.clipboard.writeText(text)
  copied[key] = true
  setTimeout(() => delete copied[key], 1500)
}
const lacksWords = (step: Step, outcome: string) => REFUSALS.includes(outcome) && !(words[step.id] ?? '').trim()
</script>

<template>
  <div class="page-head"><h1>Steps to carry by hand</h1></div>
  <p class="soft intro">Where no <Explained word="gateway" /> leads, the desk prepares each <Explained word="step" />, and you take it to the store's own pages.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <ProblemNote :problem="settled.problem.value" />
  <template v-if="waiting">
    <EmptyState v-if="!waiting.length" title="No step waits for anybody">A step appears here when something is ordered at a store that is carried by hand, or when a store takes a first build only on its own pages.</EmptyState>
    <section v-for="step in waiting" :key="step.id" class="card-plain step" :class="{ urgent: step.urgent }" :aria-label="step.title">
      <header class="row-gap"><h2><span v-if="step.urgent" class="now">▶ Now:</span> {{ step.title }}</h2><span class="soft small-print">waits since <Moment :at="step.created_at" /></span></header>
      <ol><li v-for="line in step.todo" :key="line">{{ line }}</li></ol>
      <dl v-if="Object.keys(step.texts).length">
        <template v-for="(text, name) in step.texts" :key="name">
          <dt>{{ name }}</dt>
          <dd><pre>{{ text }}</pre> <BButton size="sm" variant="link" @click="copy(step.id + name, text)">{{ copied[step.id + name] ? 'copied' : 'copy' }}</BButton></dd>
        </template>
      </dl>
      <p v-for="file in step.files" :key="file.sha256"><a :href="file.address" download>{{ file.name === file.sha256.slice(0, 12) ? 'Fetch the file' : `Fetch ${file.name}` }}</a> <span class="soft">{{ size(file.size_bytes) }}</span></p>
      <p><strong>Look for:</strong> {{ step.look_for }}</p>
      <label v-if="step.outcomes.length > 1" class="said">What the store said <span class="soft small-print">needed when it says no; paste it as it stands</span><textarea v-model="words[step.id]" class="form-control form-control-sm" rows="2" /></label>
      <div class="row-gap">
        <BButton data-needs="steer" v-for="outcome in step.outcomes" :key="outcome" size="sm" :variant="REFUSALS.includes(outcome) ? 'outline-primary' : 'primary'" :disabled="doing.busy.value || lacksWords(step, outcome)" :title="lacksWords(step, outcome) ? 'Say what the store said first' : ''" @click="settle(step, outcome)">{{ WORDS[outcome] ?? outcome }}</BButton>
      </div>
    </section>

    <section v-if="settled.rows.value.length" class="card-plain scroll-x" tabindex="0" aria-labelledby="settled">
      <h2 id="settled">Settled</h2>
      <table class="table-plain">
        <thead><tr><th>Step</th><th>Result</th><th>When</th><th><span class="visually-hidden">Undo</span></th></tr></thead>
        <tbody>
          <tr v-for="step in settled.rows.value" :key="step.id">
            <td>{{ step.title }}</td>
            <td><PhaseWord :phase="step.outcome ?? step.state" /> <span class="soft">{{ step.said }}</span></td>
            <td><Moment v-if="step.settled_at" :at="step.settled_at" /></td>
            <td><BButton data-needs="steer" v-if="step.can_undo" size="sm" variant="link" :disabled="doing.busy.value" title="It was confirmed by mistake" @click="undo(step)">Undo</BButton></td>
          </tr>
        </tbody>
      </table>
      <BButton v-if="!settled.ended.value" size="sm" variant="outline-primary" @click="doing.run(settled.next)">Show more</BButton>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.intro { margin: 0 0 1rem; }
.step { margin-bottom: 1rem; max-width: 60rem; }
.step header { justify-content: space-between; }
.urgent { border-color: var(--alarm); border-left-width: 4px; }
.now { color: var(--alarm); }
ol { margin: 0.5rem 0; padding-left: 1.3rem; }
p { margin: 0.4rem 0; }
dl { display: grid; grid-template-columns: auto 1fr; gap: 0.2rem 0.9rem; }
dt { color: var(--soft); font-weight: 400; }
dd { margin: 0; display: flex; gap: 0.5rem; align-items: start; }
dd .btn { padding: 0; }
pre { margin: 0; white-space: pre-wrap; font-size: 0.9rem; }
.said { display: grid; gap: 0.2rem; margin: 0.5rem 0; max-width: 40rem; }
</style>
