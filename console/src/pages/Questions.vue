<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { ANSWER_MARKS, type Answer, type Question, type Questions, type StoreQuestions } from '../answering'
import { api, Problem, told } from '../api'
import AppHead from '../components/AppHead.vue'
import DossierQuestion from '../components/DossierQuestion.vue'
import DossierStanding from '../components/DossierStanding.vue'
import DossierTabs from '../components/DossierTabs.vue'
import Explained from '../components/Explained.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { asProblem, useLoading } from '../loading'
import { differs, useSending } from '../sending'

/** What stores ask about an app: answered once for all that ask the same, with the ratings that follow. */
const props = defineProps<{ app: string }>()
const route = useRoute()
const path = { app: props.app }
const { data, problem, load } = useLoading<Questions>(() => told(api.GET('/v1/apps/{app}/dossier/questions', { params: { path } })))
useLive(load, (change) => change.app === props.app || change.app === null)
const { doing, send, takeOver } = useSending(props.app, load)

const stores = computed(() => data.value?.stores ?? [])
const kept = (store: StoreQuestions) => store.questions.filter((one) => one.state.startsWith('waits')).length
const sendable = (store: StoreQuestions) => store.differing > kept(store)
const demanded = (store: StoreQuestions) => store.questions.filter((one) => one.surely && one.required)
const open = (store: StoreQuestions) => demanded(store).filter((one) => one.state === 'untouched' || one.state === 'begun')
/** Bring the first question of a store that is still open into view, ready to be answered. */
function toFirst(name: string): void {
  const [first] = stores.value.filter((store) => store.store === name).flatMap(open)
  const card = document.getElementById(`question-${first?.topic ?? first?.key}`)
  card?.scrollIntoView({ block: 'center' })
  card?.querySelector<HTMLElement>('input:not([type=file]), textarea, .document button')?.focus()
}
const ratings = (name: string) => stores.value.find((store) => store.store === name)?.ratings ?? []
const atStores = computed(() =>
  stores.value.map((store) => ({
    ...store,
    sendable: sendable(store),
    unfit: open(store).length > 0,
    kept: kept(store),
    said: `${ANSWER_MARKS[store.state]} ${open(store).length ? `${open(store).length} of ${demanded(store).length} to answer` : store.differing ? differs(store.differing, 'answer', 'answers').slice(2) : store.state === 'accepted' ? 'holds the answers as they are given' : store.state}`,
  })),
)
const takers = (topic: string) => stores.value.flatMap((store) => [...store.questions, ...store.coming].filter((one) => one.topic === topic).map((question) => ({ store, question })))
const topics = computed(() => (data.value?.topics ?? []).filter((topic) => takers(topic.key).length))
const alone = computed(() => stores.value.flatMap((store) => store.questions.filter((one) => one.topic === null).map((question) => ({ store, question }))))
const coming = computed(() => stores.value.flatMap((store) => store.coming.filter((one) => one.topic === null).map((question) => ({ store, question }))))
const day = (question: Question) => new Date(question.applies_from ?? '').toLocaleDateString(undefined, { day: 'numeric', month: 'long', year: 'numeric' })
const remarksOn = (topic: string) => (data.value?.remarks ?? []).filter((one) => one.place === `answers.${topic}` && one.level !== 'note').map((one) => one.detail)
/** A question that the readiness sheet points to, by its store's own key of it. */
const isAsked = (questions: Question[]) => questions.some((one) => one.key === route.query.question)

async function save(key: string, answer: Answer | null, revision: number, store: string | null = null): Promise<Problem | null> {
  try {
    await told(api.PATCH('/v1/apps/{app}/dossier/answers', { params: { path, header: { 'if-match': `"${revision}"` } }, body: { answers: { [key]: answer }, store } }))
    return null
  } catch (wrong) {
    return asProblem(wrong)
  } finally {
    await load()
  }
}
</script>

<template>
  <AppHead title="Dossier">
    <BButton data-needs="prepare" v-if="stores.some(sendable)" variant="primary" :disabled="doing.busy.value" @click="send(null)">Send what differs</BButton>
  </AppHead>
  <DossierTabs :app="app" />
  <p class="soft intro"><Explained word="topic" said="What several stores ask" /> is answered once, and each gets it in its own words.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <template v-if="data">
    <DossierStanding
      label="Where the answers stand" :stores="atStores" :words="{ one: 'answer', many: 'answers', all: 'answers', done: 'gave' }" none="No store where this app has a place asks anything about it."
      :busy="doing.busy.value" @send="send" @take="takeOver" @first="toFirst"
    >
      <template #default="{ store }">
        <p v-if="ratings(store).length" class="ratings">Rating: <span v-for="one in ratings(store)" :key="one.region" class="grade">{{ one.title }} <b>{{ one.grade_title || 'open, an answer is missing' }}</b></span></p>
      </template>
    </DossierStanding>

    <DossierQuestion
      v-for="topic in topics" :id="topic.key" :key="topic.key" :title="topic.title" :text="topic.text" :help="topic.help" :shape="topic" :answer="(topic.answer as Answer | null)" :revision="topic.revision"
      :changed-by="topic.changed_by" :takers="takers(topic.key)" :remarks="remarksOn(topic.key)" :asked="isAsked(takers(topic.key).map((one) => one.question))" :save="save"
    />
    <DossierQuestion
      v-for="{ store, question } in alone" :id="question.key" :key="`${store.store}/${question.key}`" :title="question.text" :text="question.text" :help="question.help" :shape="question"
      :answer="(question.answer as Answer | null)" :revision="question.revision" :changed-by="question.changed_by" :takers="[{ store, question }]" :only="store.store" :remarks="[]" :asked="isAsked([question])" :save="save"
    />
    <section v-if="coming.length" aria-labelledby="coming">
      <h2 id="coming" class="coming">Asked later</h2>
      <DossierQuestion
        v-for="{ store, question } in coming" :id="question.key" :key="`${store.store}/${question.key}`" :title="`${question.text}`" :text="`${store.store_title} asks it from ${day(question)} on.`" :help="question.help" :shape="question"
        :answer="(question.answer as Answer | null)" :revision="question.revision" :changed-by="question.changed_by" :takers="[{ store, question }]" :only="store.store" :remarks="[]" :asked="isAsked([question])" :save="save"
      />
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.ratings { color: var(--soft); display: flex; flex-wrap: wrap; gap: 0.2rem 1.2rem; }
.grade b { color: var(--ink); font-weight: 600; }
.coming { margin: 1.4rem 0 0.6rem; }
</style>
