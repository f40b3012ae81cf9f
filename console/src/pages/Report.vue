<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type Build, type Report, type ReportDetail, told } from '../api'
import History from '../components/History.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { place } from '../place'

/** One field report: what was said, the stack, the conversation, and what is decided. */
const props = defineProps<{ report: string }>()
const path = { report: props.report }
const router = useRouter()
const { data, problem, load } = useLoading(async () => {
  const found = await told<ReportDetail>(api.GET('/v1/reports/{report}', { params: { path } }))
  place.value = { app: found.app, list: 'reports', said: found.headline || found.id }
  return found
})
useLive(load, (change) => change.subject === `report ${props.report}`)
const doing = useDoing()
const open = ref<'' | 'fix' | 'duplicate'>('')
const builds = ref<Build[]>([])
const others = ref<Report[]>([])
const build = ref('')
const other = ref('')
const text = ref('')
const ticket = ref<string | null>(null)
const whole = ref(false)
const frames = computed(() => (whole.value ? (data.value?.frames ?? []) : (data.value?.frames ?? []).slice(0, 12)))

async function act(work: () => Promise<unknown>): Promise<boolean> {
  const done = await doing.run(work)
  if (done) await load()
  return done
}

async function decide(what: 'accept' | 'fix' | 'duplicate' | 'close' | 'reopen'): Promise<void> {
  const body = { act: what, build: what === 'fix' ? build.value : null, duplicate_of: what === 'duplicate' ? other.value : null, reason: '' }
  if (await act(() => told(api.POST('/v1/reports/{report}/decisions', { params: { path }, body })))) open.value = ''
}

async function ask(what: 'fix' | 'duplicate'): Promise<void> {
  if (open.value === what) {
    open.value = ''
    return
  }
  const app = data.value!.app
  await doing.run(async () => {
    if (what === 'fix') {
      builds.value = await told(api.GET('/v1/apps/{app}/builds', { params: { path: { app }, query: { limit: 40 } } }))
      build.value = builds.value[0]?.id ?? ''
    } else {
      const found = await told<Report[]>(api.GET('/v1/reports', { params: { query: { app, kind: data.value!.kind, limit: 100 } } }))
      others.value = found.filter((entry) => entry.id !== props.report && entry.state !== 'duplicate of')
      other.value = others.value[0]?.id ?? ''
    }
  })
  open.value = what
}

async function reply(): Promise<void> {
  if (await act(() => told(api.POST('/v1/reports/{report}/replies', { params: { path }, body: { text: text.value } })))) text.value = ''
}

async function keepTicket(): Promise<void> {
  if (await act(() => told(api.PUT('/v1/reports/{report}/ticket', { params: { path }, body: { ticket: ticket.value ?? '' } })))) ticket.value = null
}
const can = (what: ReportDetail['possible'][number]) => data.value?.possible.includes(what)
</script>

<template>
  <ProblemNote :problem="problem" />
  <template v-if="data">
    <div class="page-head">
      <div><p class="soft small-print"><RouterLink :to="`/apps/${data.app}/reports`">Field reports of {{ data.app_title }}</RouterLink></p><h1>{{ data.kind === 'crash' ? data.headline : `Remark on ${data.build_label ?? data.app_title}` }}</h1></div>
      <div class="row-gap">
        <BButton data-needs="keep-testers" v-if="can('accept')" variant="primary" @click="decide('accept')">Accept</BButton>
        <BButton data-needs="keep-testers" v-if="can('fix')" variant="outline-primary" @click="ask('fix')">Fixed in …</BButton>
        <BButton data-needs="keep-testers" v-if="can('duplicate')" variant="outline-primary" @click="ask('duplicate')">Duplicate of …</BButton>
        <BButton data-needs="keep-testers" v-if="can('close')" variant="outline-primary" @click="decide('close')">Close</BButton>
        <BButton data-needs="keep-testers" v-if="can('reopen')" variant="outline-primary" @click="decide('reopen')">Open again</BButton>
      </div>
    </div>
    <ProblemNote :problem="doing.problem.value" />
    <form v-if="open === 'fix'" class="card-plain row-gap end" @submit.prevent="decide('fix')"><label>Fixed in <select v-model="build" class="form-select" required><option v-for="entry in builds" :key="entry.id" :value="entry.id">{{ entry.label }} ({{ entry.platform }})</option></select></label><BButton data-needs="keep-testers" type="submit" variant="primary" :disabled="!build">Keep it</BButton></form>
    <form v-if="open === 'duplicate'" class="card-plain row-gap end" @submit.prevent="decide('duplicate')"><label class="grow">Duplicate of <select v-model="other" class="form-select" required><option v-for="entry in others" :key="entry.id" :value="entry.id">{{ entry.headline }} ({{ entry.id }})</option></select></label><BButton data-needs="keep-testers" type="submit" variant="primary" :disabled="!other">Keep it</BButton></form>
    <div class="split">
      <div class="stack">
        <section v-if="data.text || data.pictures.length" class="card-plain" aria-label="What was said">
          <p v-if="data.text" class="text">{{ data.text }}</p>
          <div v-if="data.pictures.length" class="pictures"><a v-for="picture in data.pictures" :key="picture.place" :href="`/v1/reports/${data.id}/pictures/${picture.place}`" target="_blank"><img :src="`/v1/reports/${data.id}/pictures/${picture.place}`" :width="picture.width" :height="picture.height" :alt="`Picture ${picture.place} of the report`" loading="lazy" /></a></div>
        </section>
        <section v-if="data.frames.length" class="card-plain" aria-labelledby="stack">
          <div class="row-gap"><h2 id="stack">{{ data.thrown }}</h2><span v-if="!data.symbolised" class="soft small-print">no names: keep the build's symbol file with <code>tide report symbols</code></span></div>
          <ol class="frames mono"><li v-for="(frame, place) in frames" :key="place" :class="{ own: frame.own }">{{ frame.told }}</li></ol>
          <BButton v-if="data.frames.length > 12" size="sm" variant="link" @click="whole = !whole">{{ whole ? 'Fewer' : `All ${data.frames.length} frames` }}</BButton>
          <p v-if="data.alike > 1"><RouterLink :to="`/apps/${data.app}/reports?group=${data.fingerprint}`">The same crash came {{ data.alike }} times</RouterLink></p>
        </section>
        <section class="card-plain" aria-labelledby="talk">
          <h2 id="talk">Conversation</h2>
          <div v-for="(word, place) in data.words" :key="place" class="word" :class="{ team: word.from_desk }"><p class="soft small-print">{{ word.who }} · <Moment :at="word.at" /><template v-if="word.state"> · <PhaseWord :phase="word.state" /></template><span v-if="word.trouble" class="care"> {{ word.trouble }}</span></p><p class="text">{{ word.text }}</p></div>
          <form v-if="data.tester" class="stack" @submit.prevent="reply"><label>Answer {{ data.tester.name || data.tester.email }} by mail <textarea v-model="text" class="form-control" rows="3" required /></label><div><BButton data-needs="keep-testers" type="submit" variant="primary" :disabled="doing.busy.value || !text.trim()">Send the answer</BButton></div></form>
          <p v-else class="soft">Nobody is known who could be answered.</p>
        </section>
      </div>
      <section class="card-plain facts" aria-label="About it">
        <p><PhaseWord :phase="data.state" /> <RouterLink v-if="data.fixed_in" :to="`/apps/${data.app}/builds/${data.fixed_in}`">{{ data.fixed_label }}</RouterLink><RouterLink v-if="data.duplicate_of" :to="`/reports/${data.duplicate_of}`">{{ data.duplicate_of }}</RouterLink></p>
        <dl>
          <dt>Kind</dt><dd>{{ data.kind }}</dd>
          <dt>Build</dt><dd><RouterLink v-if="data.build" :to="`/apps/${data.app}/builds/${data.build}`">{{ data.build_label }}</RouterLink><template v-else>not known</template></dd>
          <dt>From</dt><dd>{{ data.tester ? data.tester.name || data.tester.email : 'nobody known' }}<br v-if="data.tester?.name" /><span v-if="data.tester?.name" class="soft small-print">{{ data.tester.email }}</span></dd>
          <template v-if="data.trial"><dt>Cohort</dt><dd><RouterLink :to="`/apps/${data.app}/cohorts/${data.cohort}`">{{ data.cohort }}</RouterLink>, <RouterLink :to="`/trials/${data.trial}`">its trial</RouterLink></dd></template>
          <dt>Device</dt><dd>{{ [data.device, data.system].filter(Boolean).join(', ') || 'not told' }}</dd>
          <dt>Came by</dt><dd>{{ { page: 'the tester\'s page', store: data.store ?? 'a store', api: 'the API' }[data.source] ?? data.source }}</dd>
          <dt>When</dt><dd><Moment :at="data.at" /></dd>
          <dt>Ticket</dt><dd><template v-if="ticket === null"><a v-if="data.ticket.startsWith('http')" :href="data.ticket" rel="noreferrer" target="_blank">{{ data.ticket }}</a><template v-else>{{ data.ticket || 'none' }}</template> <BButton data-needs="keep-testers" size="sm" variant="link" @click="ticket = data.ticket">{{ data.ticket ? 'change' : 'link one' }}</BButton></template><form v-else class="row-gap" @submit.prevent="keepTicket"><input v-model="ticket" class="form-control form-control-sm" aria-label="Ticket" placeholder="an address or a number" /><BButton data-needs="keep-testers" type="submit" size="sm" variant="primary">Keep it</BButton></form></dd>
          <template v-if="data.joined.length"><dt>Others</dt><dd><RouterLink v-for="entry in data.joined" :key="entry" class="each" :to="`/reports/${entry}`">{{ entry }}</RouterLink></dd></template>
        </dl>
        <BButton size="sm" variant="link" @click="router.back()">Back to the list</BButton>
      </section>
    </div>
    <History :app="data.app" :about="`report ${props.report}`" />
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.page-head p { margin: 0; }
h1 { overflow-wrap: anywhere; }
form.card-plain { margin-bottom: 1rem; }
h2, .frames { overflow-wrap: anywhere; min-width: 0; }
.split { display: grid; grid-template-columns: minmax(0, 1fr) minmax(17rem, 22rem); gap: 1rem; align-items: start; }
.end { align-items: end; }
.grow { flex: 1 1 18rem; }
label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.text { white-space: pre-wrap; margin: 0.2rem 0; overflow-wrap: anywhere; }
.pictures { display: flex; flex-wrap: wrap; gap: 0.7rem; margin-top: 0.7rem; }
.pictures img { max-width: 100%; width: auto; height: auto; max-height: 22rem; border: 1px solid var(--line); border-radius: 0.5rem; }
.frames { padding-left: 2rem; margin: 0.5rem 0; color: var(--soft); overflow-wrap: anywhere; }
.frames .own { color: var(--ink); font-weight: 600; }
.word { border-left: 3px solid var(--line); padding-left: 0.8rem; margin: 0.6rem 0; }
.word.team { border-color: var(--accent); }
.word p { margin: 0; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 0.25rem 0.9rem; margin: 0.5rem 0; font-size: 0.9rem; }
dt { color: var(--soft); font-weight: 400; }
dd { margin: 0; overflow-wrap: anywhere; }
.each { margin-right: 0.5rem; }
.care { color: var(--care); }
@media (max-width: 56rem) { .split { grid-template-columns: minmax(0, 1fr); } }
</style>
