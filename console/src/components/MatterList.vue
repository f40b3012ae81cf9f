<script setup lang="ts">
import { reactive, ref } from 'vue'

import { api, type Leg, told } from '../api'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import { session } from '../session'
import { CHECK_KINDS } from '../states'
import ProblemNote from './ProblemNote.vue'

type Matter = components['schemas']['MatterTold']
type Act = components['schemas']['MatterEvent']

/** What the store has refused of one leg, as work: each reason is answered, fixed or disputed, taken by a person, and may teach a check. */
const props = defineProps<{ app: string; version: string; leg: Leg }>()
const emit = defineEmits<{ done: [] }>()

const path = { app: props.app }
const { data: matters, problem, load } = useLoading(async () =>
  (await told(api.GET('/v1/apps/{app}/matters', { params: { path, query: { version: props.version, settled: true } } }))).filter((one) => one.place === props.leg.place),
)
void load()
const doing = useDoing()
const ACTS: Record<string, { said: string; asks: string; done: string }> = {
  answer: { said: 'Answer', asks: 'What is answered', done: 'Answered' },
  fix: { said: 'Fixed', asks: 'What was fixed', done: 'Fixed' },
  dispute: { said: 'Dispute', asks: 'Why you think otherwise', done: 'Disputed' },
}
const CHECKED: Record<components['schemas']['CheckKind'], string> = { question: 'The question', 'no words': 'The words', 'no permission': 'The permission', pictures: 'The class and how many, such as phone 3' }
const SIGNS: Record<string, string> = { open: '●', answered: '✓', fixed: '✓', disputed: '≠', settled: '✓✓' }
const asked = ref<{ id: string; what: Act | 'arrange' | 'teach' } | null>(null)
const form = reactive({ said: '', ticket: '', due: '', mine: false, kind: 'question' as components['schemas']['CheckKind'], text: '' })

function begin(one: Matter, what: Act | 'arrange' | 'teach'): void {
  Object.assign(form, { said: one.said, ticket: one.ticket, due: one.due_on ?? '', mine: one.taken_by === session.person.value?.id, kind: 'question', text: '' })
  asked.value = { id: one.id, what }
}

async function ended(work: () => Promise<unknown>, said: string): Promise<void> {
  const done = await doing.run(async () => void (await work()), said)
  if (!done) return
  asked.value = null
  await load()
  emit('done')
}

function decide(one: Matter, event: Act) {
  const body = { event, said: event === 'reopen' ? '' : form.said }
  return ended(() => told(api.POST('/v1/apps/{app}/matters/{matter}/decisions', { params: { path: { ...path, matter: one.id } }, body })), `Matter ${one.number} is ${event === 'reopen' ? 'open again' : ACTS[event]!.done.toLowerCase()}`)
}
function arrange(one: Matter) {
  const me = session.person.value?.id ?? ''
  const others = one.taken_by && one.taken_by !== me ? undefined : ''
  const body = { taken_by: form.mine ? me : others, ticket: form.ticket, due_on: form.due }
  return ended(() => told(api.PATCH('/v1/apps/{app}/matters/{matter}', { params: { path: { ...path, matter: one.id } }, body })), `Matter ${one.number} is arranged`)
}
function teach(one: Matter) {
  return ended(() => told(api.POST('/v1/apps/{app}/standing-checks', { params: { path }, body: { kind: form.kind, text: form.text, matter: one.id } })), 'The check stands from now on')
}
</script>

<template>
  <ProblemNote :problem="problem" />
  <section v-if="matters?.length" class="matters" aria-label="What was refused">
    <h3>What was refused</h3>
    <ol class="plain-list">
      <li v-for="one in matters" :key="one.id" :class="one.state">
        <p class="words"><span class="sign" aria-hidden="true">{{ SIGNS[one.state] }}</span> <strong>{{ one.number }}. {{ one.words }}</strong></p>
        <p class="small-print soft">
          {{ one.state }}<template v-if="one.item_told"> · {{ one.item_told }}</template><template v-else-if="one.thing_title"> · {{ one.thing_title }}</template> · round {{ one.first_round }}<template v-if="one.last_round !== one.first_round"> and {{ one.last_round }}</template>
          <template v-if="one.who"> · {{ one.who }}</template><template v-if="one.ticket"> · {{ one.ticket }}</template><template v-if="one.due_on"> · due {{ one.due_on }}</template>
        </p>
        <p v-if="one.said && one.state !== 'open'" class="said">{{ one.said }}</p>
        <div v-if="asked === null || asked.id !== one.id" class="row-gap">
          <template v-for="event in one.possible" :key="event">
            <BButton data-needs="prepare" v-if="event === 'reopen'" size="sm" variant="link" :disabled="doing.busy.value" @click="decide(one, 'reopen')">Open again</BButton>
            <BButton data-needs="prepare" v-else size="sm" :variant="one.state === 'open' ? 'outline-primary' : 'link'" @click="begin(one, event)">{{ ACTS[event]!.said }}</BButton>
          </template>
          <BButton data-needs="prepare" v-if="one.state !== 'settled'" size="sm" variant="link" @click="begin(one, 'arrange')">Who and until when</BButton>
          <BButton data-needs="prepare" size="sm" variant="link" @click="begin(one, 'teach')">Check it from now on</BButton>
        </div>
        <form v-else-if="asked.what === 'arrange'" class="form" @submit.prevent="arrange(one)">
          <label class="check"><input v-model="form.mine" type="checkbox" class="form-check-input" /> I take it</label>
          <label>Ticket <input v-model="form.ticket" class="form-control form-control-sm" maxlength="300" /></label>
          <label>Due on <input v-model="form.due" type="date" class="form-control form-control-sm" /></label>
          <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Save</BButton><BButton size="sm" variant="link" @click="asked = null">Cancel</BButton></div>
        </form>
        <form v-else-if="asked.what === 'teach'" class="form" @submit.prevent="teach(one)">
          <label>What is checked before every later hand-in
            <select v-model="form.kind" class="form-select form-select-sm"><option v-for="(said, kind) in CHECK_KINDS" :key="kind" :value="kind">{{ said }}</option></select>
          </label>
          <label>{{ CHECKED[form.kind] }} <input v-model="form.text" class="form-control form-control-sm" maxlength="300" required /></label>
          <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Check it from now on</BButton><BButton size="sm" variant="link" @click="asked = null">Cancel</BButton></div>
        </form>
        <form v-else class="form" @submit.prevent="decide(one, asked.what as Act)">
          <label>{{ ACTS[asked.what]!.asks }} <span class="small-print soft">the reviewer is told with the next round</span> <textarea v-model="form.said" class="form-control form-control-sm" rows="2" maxlength="2000" required /></label>
          <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Save</BButton><BButton size="sm" variant="link" @click="asked = null">Cancel</BButton></div>
        </form>
      </li>
    </ol>
    <ProblemNote :problem="doing.problem.value" />
  </section>
</template>

<style scoped>
h3 { font-size: 0.95rem; margin: 0 0 0.3rem; }
li { border-left: 4px solid var(--line); padding: 0.3rem 0 0.3rem 0.8rem; margin-bottom: 0.5rem; }
li.open { border-left-color: var(--alarm); }
li.disputed { border-left-color: var(--care); }
p { margin: 0; }
.words { overflow-wrap: anywhere; }
.words strong { font-weight: 600; }
.open .sign { color: var(--alarm); }
.said { padding: 0.15rem 0; }
.form { display: grid; gap: 0.5rem; padding-top: 0.3rem; }
.form label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.form .check { display: flex; gap: 0.5rem; align-items: center; }
</style>
