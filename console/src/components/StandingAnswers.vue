<script setup lang="ts">
import { onMounted, ref } from 'vue'

import { api, type App, type StandingAnswer, told } from '../api'
import { useDoing } from '../loading'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

/** What is answered automatically when a store asks, and taking that back. */
const props = defineProps<{ app: App }>()
const found = ref<{ store: string; title: string; answer: StandingAnswer }[]>([])
const doing = useDoing()

const load = () => doing.run(async () => {
  const open = props.app.berths.filter((berth) => berth.state === 'open')
  const answers = await Promise.all(open.map((berth) => told<StandingAnswer[]>(api.GET('/v1/apps/{app}/berths/{store}/standing-answers', { params: { path: { app: props.app.name, store: berth.store } } }))))
  found.value = open.flatMap((berth, place) => answers[place]!.map((answer) => ({ store: berth.store, title: berth.store_title, answer })))
})
onMounted(load)

async function forget(store: string, code: string): Promise<void> {
  await doing.run(() => told(api.DELETE('/v1/apps/{app}/berths/{store}/standing-answers/{code}', { params: { path: { app: props.app.name, store, code } } })))
  await load()
}
</script>

<template>
  <details v-if="found.length" class="card-plain standing">
    <summary>{{ found.length }} question{{ found.length === 1 ? '' : 's' }} answered automatically</summary>
    <ProblemNote :problem="doing.problem.value" />
    <ul class="plain-list">
      <li v-for="{ store, title, answer } in found" :key="store + answer.code">{{ title }}: {{ answer.text }} <strong>{{ answer.answer }}</strong> <span class="soft small-print">since <Moment :at="answer.given_at" /></span> <BButton data-needs="prepare" size="sm" variant="link" @click="forget(store, answer.code)">Ask me again</BButton></li>
    </ul>
  </details>
</template>

<style scoped>
.standing { margin-top: 1rem; }
summary { color: var(--accent); }
</style>
