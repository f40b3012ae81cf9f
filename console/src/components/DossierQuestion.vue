<script setup lang="ts">
import { computed, nextTick, onMounted, ref, watch } from 'vue'

import { type Answer, type Question, type Shape, type StoreQuestions, same, standing, worded } from '../answering'
import type { Problem } from '../api'
import { size } from '../picturing'
import { measured } from '../telling'
import AnswerInput from './AnswerInput.vue'

/** One question, answered once, and what each store that asks it gets of the answer. */
const props = defineProps<{
  id: string
  title: string
  text: string
  help: string
  shape: Shape
  answer: Answer | null
  revision: number
  changedBy: string
  takers: { store: StoreQuestions; question: Question }[]
  only?: string
  remarks: string[]
  asked: boolean
  save: (key: string, answer: Answer | null, revision: number, store?: string | null) => Promise<Problem | null>
}>()

const mine = ref<Answer | null>(props.answer)
const revision = ref(props.revision)
const theirs = ref(false)
const problem = ref<Problem | null>(null)
const busy = ref(false)
const box = ref<HTMLElement>()
const special = ref<{ store: string; question: Question; answer: Answer | null } | null>(null)
const dirty = computed(() => !same(mine.value, props.answer))
const words = computed(() => (props.shape.form === 'text' ? String(mine.value ?? '') : ''))

/** What comes from elsewhere is taken over as long as nobody is answering here. */
watch(
  () => [props.answer, props.revision] as const,
  ([now, at], [before]) => {
    if (same(mine.value, before) || same(mine.value, now)) {
      mine.value = now
      revision.value = at
      theirs.value = false
    } else if (at !== revision.value) {
      theirs.value = true
    }
  },
)
onMounted(async () => {
  if (!props.asked) return
  await nextTick()
  box.value?.querySelector<HTMLElement>('input:not([type=file]), textarea, .document button')?.focus()
  box.value?.scrollIntoView({ block: 'center' })
})

/** From when on a question is asked that is not asked today; nothing for one that is. */
function later(question: Question): string {
  const start = question.applies_from ? new Date(question.applies_from) : null
  return start && start > new Date() ? start.toLocaleDateString(undefined, { day: 'numeric', month: 'short', year: 'numeric' }) : ''
}

async function keep(): Promise<void> {
  busy.value = true
  problem.value = await props.save(props.id, mine.value, revision.value, props.only ?? null)
  busy.value = false
  if (problem.value?.status === 412) theirs.value = true
}
function settle(): void {
  revision.value = props.revision
  theirs.value = false
  problem.value = null
}
function undo(): void {
  mine.value = props.answer
  settle()
}
async function keepSpecial(): Promise<void> {
  const wish = special.value
  if (!wish) return
  busy.value = true
  problem.value = await props.save(wish.question.key, wish.answer, wish.question.revision, wish.store)
  busy.value = false
  if (!problem.value) special.value = null
}
</script>

<template>
  <section :id="`question-${id}`" ref="box" class="card-plain question" :aria-label="title">
    <header class="row-gap">
      <h2>{{ title }}</h2>
      <span v-if="only" class="soft">only {{ takers[0]?.store.store_title }} asks it</span>
      <span v-if="answer !== null && !dirty && changedBy" class="soft small-print">answered by {{ changedBy }}</span>
    </header>
    <p v-if="text !== title" class="asked">{{ text }}</p>
    <p v-if="help" class="soft small-print help">{{ help }}</p>
    <form @submit.prevent="keep">
      <AnswerInput v-model="mine" :shape="shape" :label="text" :name="`answer-${id}`" :disabled="busy" />
    </form>
    <div v-if="theirs && dirty" class="theirs" role="alert">
      <p><strong>{{ changedBy }} has changed this answer meanwhile.</strong> It is now: {{ worded(shape, answer) }}</p>
      <div class="row-gap"><BButton data-needs="prepare" size="sm" variant="outline-primary" @click="undo">Take that answer</BButton><BButton data-needs="prepare" size="sm" variant="outline-primary" @click="settle">Keep mine, to save it over that</BButton></div>
    </div>
    <p v-else-if="problem" class="problem" role="alert">✕ {{ problem.message }} {{ problem.remedy }}</p>
    <div v-if="dirty" class="row-gap keep"><BButton data-needs="prepare" size="sm" variant="primary" :disabled="busy || theirs" @click="keep">Save</BButton><BButton size="sm" variant="link" @click="undo">Undo the change</BButton></div>
    <ul class="plain-list takers">
      <li v-for="{ store, question } in takers" :key="store.store">
        <span class="who">{{ store.store_title }}</span>
        <span class="theirs-asked"><template v-if="!only && question.text !== text">“{{ question.text }}” </template>{{ worded(question, dirty && question.origin === 'common' && !only ? null : question.answer ?? question.held) }}
          <span v-if="question.refused_answers.includes(String(question.answer))" class="over">✕ with this answer it takes no app</span>
          <span v-if="shape.form === 'text'" :class="{ over: measured(words, question.counted_in) > question.limit }" class="soft">· {{ measured(words, question.counted_in) }} of {{ question.limit }} {{ question.counted_in }}</span>
 <span v-if="shape.form === 'file'" class="soft">· takes {{ question.formats.join(', ') }} up to {{ size(question.largest_bytes) }}</span>
          <span v-if="shape.form === 'number'" class="soft">· takes {{ question.lowest }} to {{ question.highest }}</span>
        </span>
        <span>{{ dirty ? '◔ not saved' : standing(question) }}</span>
        <span class="soft lock">{{ later(question) ? `asked from ${later(question)} on` : question.lock || 'may change any time' }}</span>
        <BButton data-needs="prepare" v-if="!only && special?.store !== store.store" size="sm" variant="link" @click="special = { store: store.store, question, answer: (question.answer as Answer | null) }">{{ question.origin === 'own' ? 'Has its own answer' : 'Another answer here' }}</BButton>
        <form v-if="special?.store === store.store" class="special" @submit.prevent="keepSpecial">
          <p>For {{ store.store_title }} alone: {{ special.question.text }}</p>
          <AnswerInput v-model="special.answer" :shape="special.question" :label="`For ${store.store_title} alone: ${special.question.text}`" :name="`own-${store.store}-${id}`" :disabled="busy" />
          <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="busy">Save for {{ store.store_title }}</BButton><BButton data-needs="prepare" v-if="question.origin === 'own'" size="sm" variant="outline-primary" :disabled="busy" @click="((special.answer = null), keepSpecial())">As all others</BButton><BButton size="sm" variant="link" @click="special = null">Cancel</BButton></div>
        </form>
        <details v-if="question.held !== null && question.answer !== null && !same(question.held as Answer, question.answer as Answer)" class="held"><summary>What {{ store.store_title }} holds</summary><blockquote>{{ worded(question, question.held as Answer) }}</blockquote></details>
      </li>
    </ul>
    <p v-for="said in remarks" :key="said" class="remark">▲ {{ said }}</p>
  </section>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.question { margin-bottom: 0.9rem; }
.asked { margin: 0.15rem 0 0; }
.theirs-asked { overflow-wrap: anywhere; }
.takers li { grid-template-columns: minmax(7rem, 10rem) minmax(12rem, 2fr) minmax(8rem, 1fr) minmax(8rem, 1.2fr) auto; }
@media (max-width: 760px) { .takers li { grid-template-columns: 1fr; } }
</style>
