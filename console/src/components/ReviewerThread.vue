<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { api, type Leg, told } from '../api'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import AttachFiles from './AttachFiles.vue'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

type Thread = components['schemas']['ThreadTold']
interface Named { sha256: string; name: string }

/** The correspondence with the reviewers of one leg: what was written both ways, with files; an answer, an appeal, and what came by mail. */
const props = defineProps<{ app: string; version: string; leg: Leg }>()
const emit = defineEmits<{ done: [] }>()

const path = { app: props.app, version: props.version, place: props.leg.place }
const { data: threads, problem, load } = useLoading<Thread[]>(() => told(api.GET('/v1/apps/{app}/releases/{version}/legs/{place}/messages', { params: { path } })))
const doing = useDoing()
const last = computed(() => threads.value?.[0])
const count = computed(() => props.leg.rounds.reduce((sum, one) => sum + one.messages, 0))
const waits = computed(() => props.leg.rounds.some((one) => one.waits_for_answer))
const shown = ref(waits.value)
watch(() => [count.value, waits.value, props.leg.phase], () => {
  if (waits.value) shown.value = true
  if (shown.value) void load()
}, { immediate: true })

const what = ref<'write' | 'appeal' | 'received' | null>(null)
const form = reactive({ words: '', files: [] as Named[], asks: false })
const KINDS: Record<string, string> = { appeal: 'appeal', question: 'asks' }

function begin(which: 'write' | 'appeal' | 'received'): void {
  Object.assign(form, { words: '', files: [], asks: false })
  what.value = which
}
const POSTS = {
  write: (body: { words: string; files: string[] }) => api.POST('/v1/apps/{app}/releases/{version}/legs/{place}/messages', { params: { path }, body }),
  appeal: (body: { words: string; files: string[] }) => api.POST('/v1/apps/{app}/releases/{version}/legs/{place}/appeals', { params: { path }, body }),
  received: (body: { words: string; files: string[] }) => api.POST('/v1/apps/{app}/releases/{version}/legs/{place}/received-messages', { params: { path }, body: { ...body, asks: form.asks } }),
}
async function send(): Promise<void> {
  const which = what.value!
  const body = { words: form.words, files: form.files.map((one) => one.sha256) }
  const said = { write: 'The message is on its way to the reviewer', appeal: 'The appeal is on its way to the store', received: 'The message is entered' }[which]
  if (!(await doing.run(async () => void (threads.value = await told<Thread[]>(POSTS[which](body))), said))) return
  what.value = null
  emit('done')
}
function toggled(event: Event): void {
  shown.value = (event.target as HTMLDetailsElement).open
  if (shown.value && !threads.value) void load()
}
</script>

<template>
  <details class="thread" :open="shown" @toggle="toggled">
    <summary>Correspondence with the reviewer <span class="soft">({{ count }})</span> <strong v-if="waits" class="asks">● it waits for an answer</strong></summary>
    <ProblemNote :problem="problem" />
    <section v-for="thread in threads ?? []" :key="thread.round" :aria-label="`Messages of round ${thread.round}`">
      <h4 v-if="thread.messages.length">Round {{ thread.round }}</h4>
      <ol class="plain-list">
        <li v-for="one in thread.messages" :key="one.id" :class="{ theirs: one.kind === 'store' || one.kind === 'question', asks: one.kind === 'question' && thread.waits }">
          <p class="small-print soft">{{ one.who }}<template v-if="KINDS[one.kind]"> · <strong>{{ KINDS[one.kind] }}</strong></template> · <Moment :at="one.at" /><template v-if="one.arrived === false"> · ◌ on its way</template><template v-if="one.arrived === null"> · ✕ the store did not take it</template><template v-if="one.trouble">: {{ one.trouble }}</template></p>
          <p class="words">{{ one.words }}</p>
          <p v-for="file in one.files" :key="file.sha256" class="small-print">
            <a v-if="file.kept" :href="`/v1/apps/${app}/review-messages/${one.id}/files/${file.sha256}`" :download="file.name">{{ file.name }}</a>
            <span v-else>{{ file.name }}: {{ file.trouble || 'still being fetched' }}</span>
          </p>
        </li>
      </ol>
    </section>
    <p v-if="threads && !count" class="soft small-print">Nothing was written yet.</p>
    <div v-if="last && !what" class="row-gap">
      <BButton data-needs="steer" v-if="last.open_to_words" size="sm" :variant="last.waits ? 'primary' : 'outline-primary'" @click="begin('write')">{{ last.waits ? 'Answer' : 'Write to the reviewer' }}</BButton>
      <BButton data-needs="steer" v-if="!last.against_appeal" size="sm" variant="outline-primary" @click="begin('appeal')">Appeal</BButton>
      <BButton data-needs="steer" size="sm" variant="link" @click="begin('received')">Enter what came by mail</BButton>
    </div>
    <p v-if="last && last.state === 'rejected' && last.against_appeal" class="small-print soft">No appeal: {{ last.against_appeal }}</p>
    <form v-if="what" class="form" @submit.prevent="send">
      <label>{{ { write: 'Message to the reviewer', appeal: 'Why the refusal is wrong; the store looks at the same submission again', received: 'What the reviewer wrote' }[what] }}
        <textarea v-model="form.words" class="form-control form-control-sm" rows="3" maxlength="10000" required />
      </label>
      <label v-if="what === 'received'" class="row-gap"><input v-model="form.asks" type="checkbox" class="form-check-input" /> the review waits for an answer</label>
      <AttachFiles v-model="form.files" />
      <ProblemNote :problem="doing.problem.value" />
      <div class="row-gap"><BButton data-needs="steer" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">{{ { write: 'Send', appeal: 'Appeal', received: 'Enter it' }[what] }}</BButton><BButton size="sm" variant="link" @click="what = null">Cancel</BButton></div>
    </form>
  </details>
</template>

<style scoped>
.thread { display: grid; gap: 0.4rem; }
summary { color: var(--accent); font-size: 0.95rem; }
.asks { color: var(--alarm); }
h4 { font-size: 0.85rem; margin: 0.4rem 0 0.2rem; color: var(--soft); }
li { border-left: 4px solid var(--accent); padding: 0.2rem 0 0.2rem 0.7rem; margin-bottom: 0.4rem; }
li.theirs { border-left-color: var(--care); background: var(--care-soft); border-radius: 0 0.35rem 0.35rem 0; }
li.asks { border-left-color: var(--alarm); }
p { margin: 0; }
.words { white-space: pre-line; overflow-wrap: anywhere; color: var(--ink, inherit); }
.form { display: grid; gap: 0.5rem; padding-top: 0.4rem; }
.form label:not(.row-gap) { display: grid; gap: 0.2rem; font-size: 0.9rem; }
</style>
