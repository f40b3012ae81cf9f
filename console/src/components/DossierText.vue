<script setup lang="ts">
import { computed, nextTick, onMounted, ref, watch } from 'vue'

import type { Problem } from '../api'
import type { components } from '../schema'
import { measured } from '../telling'
import MarkedText from './MarkedText.vue'

/** One text in one language, another language beside it, and what each store takes of it. */
type Schemas = components['schemas']
type Store = Schemas['StoreTextsTold']
type Written = Schemas['WrittenTextTold']
interface Field { key: string; title: string; help: string; form: string; means?: string | null }

const props = defineProps<{
  field: Field
  locale: string
  beside: string
  written?: Written
  other: string
  stores: Store[]
  only?: string
  asked: boolean
  own: (store: string, key: string) => Written | undefined
  save: (locale: string, field: string, text: string, revision: number, store?: string | null) => Promise<Problem | null>
}>()

const text = ref(props.written?.text ?? '')
const revision = ref(props.written?.revision ?? 0)
const theirs = ref('')
const problem = ref<Problem | null>(null)
const busy = ref(false)
const box = ref<HTMLElement>()
const special = ref<{ store: string; key: string; text: string; revision: number } | null>(null)
const oneLine = computed(() => props.field.form === 'line' || props.field.form === 'address')
const dirty = computed(() => text.value !== (props.written?.text ?? ''))

/** What comes from elsewhere is taken over as long as nobody is typing here. */
watch(
  () => props.written,
  (now, before) => {
    if (text.value === (before?.text ?? '') || text.value === (now?.text ?? '')) {
      text.value = now?.text ?? ''
      revision.value = now?.revision ?? 0
      theirs.value = ''
    } else if ((now?.revision ?? 0) !== revision.value) {
      theirs.value = now?.text ?? ''
    }
  },
)
onMounted(async () => {
  if (!props.asked) return
  await nextTick()
  box.value?.querySelector<HTMLElement>('textarea, input')?.focus()
  box.value?.scrollIntoView({ block: 'center' })
})

const takers = computed(() =>
  props.stores.flatMap((store) => {
    const field = store.fields.find((known) => (props.only ? known.key === props.field.key : known.means === props.field.key))
    if (!field || (store.locales.length && !store.locales.includes(props.locale))) return []
    const own = props.only ? undefined : props.own(store.store, field.key)
    const held = store.texts.find((entry) => entry.locale === props.locale && entry.field === field.key)
    const said = own?.text || text.value
    return [{ store, field, own, held, length: measured(said, field.counted_in) }]
  }),
)
const findings = computed(() => takers.value.map(({ store, field, own }) => ({ own, said: store.findings.filter((entry) => entry.place === `texts.${props.locale}.${field.key}` && entry.level !== 'blocker') })))
const remarks = computed(() => [...new Set(findings.value.flatMap(({ said }) => said.map((entry) => entry.detail)))])
/** The words that remarks on this text are about; a store's own text is another one. */
const words = computed(() => findings.value.flatMap(({ own, said }) => (own ? [] : said.flatMap((entry) => entry.words ?? []))))
const rows = computed(() => Math.min(16, Math.max(props.field.form === 'text' ? 5 : 2, text.value.split('\n').length + Math.floor(text.value.length / 90))))
const MARK: Record<string, string> = { accepted: '✓', ordered: '◌', 'waits for the review to end': '◔', refused: '✕', 'changed since sent': '◔', complete: '◔', missing: '·' }

async function keep(): Promise<void> {
  busy.value = true
  const sent = text.value
  problem.value = await props.save(props.locale, props.field.key, sent, revision.value, props.only ?? null)
  busy.value = false
  if (problem.value?.status === 412) theirs.value = props.written?.text ?? ''
}
function takeTheirs(): void {
  text.value = props.written?.text ?? ''
  settle()
}
function settle(): void {
  revision.value = props.written?.revision ?? 0
  theirs.value = ''
  problem.value = null
}
async function keepSpecial(): Promise<void> {
  const wish = special.value
  if (!wish) return
  busy.value = true
  problem.value = await props.save(props.locale, wish.key, wish.text, wish.revision, wish.store)
  busy.value = false
  if (!problem.value) special.value = null
}
</script>

<template>
  <section ref="box" class="card-plain text" :aria-label="field.title">
    <header class="row-gap">
      <h2>{{ field.title }}</h2>
      <span v-if="only" class="soft">only {{ stores[0]?.store_title }} asks for it</span>
      <span v-if="written && !dirty" class="soft small-print">written by {{ written.changed_by }}</span>
    </header>
    <p class="soft small-print help">{{ field.help }}</p>
    <form :class="{ two: beside }" @submit.prevent="keep">
      <label v-if="beside" class="pane"><span class="soft">{{ beside }}</span><textarea :value="other" class="form-control" :rows="oneLine ? 1 : rows" readonly :lang="beside" dir="auto" /></label>
      <label class="pane"><span class="soft">{{ locale }}</span>
        <MarkedText v-model="text" :words="words" :one-line="oneLine" :rows="rows" :locale="locale" :address="field.form === 'address'" @save="keep" />
      </label>
    </form>
    <div v-if="theirs && dirty" class="theirs" role="alert">
      <p><strong>{{ written?.changed_by }} has changed this text meanwhile.</strong> It is now:</p>
      <blockquote>{{ theirs }}</blockquote>
      <div class="row-gap"><BButton data-needs="prepare" size="sm" variant="outline-primary" @click="takeTheirs">Take that text</BButton><BButton data-needs="prepare" size="sm" variant="outline-primary" @click="settle">Keep mine, to save it over that</BButton></div>
    </div>
    <p v-else-if="problem" class="problem" role="alert">✕ {{ problem.message }} {{ problem.remedy }}</p>
    <div v-if="dirty" class="row-gap keep"><BButton data-needs="prepare" size="sm" variant="primary" :disabled="busy || !!theirs" @click="keep">Save</BButton><BButton size="sm" variant="link" @click="((text = written?.text ?? ''), settle())">Undo the change</BButton><span class="soft small-print">Ctrl and Enter saves, too.</span></div>
    <ul class="plain-list takers">
      <li v-for="{ store, field: taken, own, held, length } in takers" :key="store.store">
        <span class="who">{{ store.store_title }}<template v-if="taken.title !== field.title">, “{{ taken.title }}”</template></span>
        <span :class="{ over: length > taken.limit }">{{ length }} of {{ taken.limit }} {{ taken.counted_in }}<template v-if="length > taken.limit">: {{ length - taken.limit }} too many</template></span>
        <span>{{ length || held ? `${MARK[dirty && !own ? 'complete' : held?.state ?? 'missing'] ?? ''} ${dirty && !own ? 'not saved' : held?.state === 'complete' ? 'not sent' : held?.state ?? 'missing'}` : taken.required ? '✕ required' : 'may be left out' }}</span>
        <span class="soft lock">{{ taken.lock || 'may change any time' }}</span>
        <BButton data-needs="prepare" v-if="!only && special?.store !== store.store" size="sm" variant="link" @click="special = { store: store.store, key: taken.key, text: own?.text ?? text, revision: own?.revision ?? 0 }">{{ own ? 'Has its own text' : 'Another text here' }}</BButton>
        <form v-if="special?.store === store.store" class="special" @submit.prevent="keepSpecial">
          <label>For {{ store.store_title }} alone, in {{ locale }}; empty: as all others <textarea v-model="special.text" class="form-control" rows="3" :lang="locale" dir="auto" /></label>
          <span :class="{ over: measured(special.text, taken.counted_in) > taken.limit }" class="small-print">{{ measured(special.text, taken.counted_in) }} of {{ taken.limit }} {{ taken.counted_in }}</span>
          <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="busy">Save for {{ store.store_title }}</BButton><BButton size="sm" variant="link" @click="special = null">Cancel</BButton></div>
        </form>
        <details v-if="held && held.held && held.held !== held.text" class="held"><summary>What {{ store.store_title }} holds</summary><blockquote>{{ held.held }}</blockquote></details>
      </li>
    </ul>
    <p v-for="said in remarks" :key="said" class="remark">▲ {{ said }}</p>
  </section>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.text { margin-bottom: 0.9rem; }
h2 { font-size: 1.05rem; margin: 0; }
form.two { display: grid; grid-template-columns: 1fr 1fr; gap: 0.8rem; align-items: start; }
.pane { display: grid; gap: 0.15rem; width: 100%; font-size: 0.9rem; }
.takers li { grid-template-columns: minmax(8rem, 14rem) minmax(9rem, 15rem) minmax(7rem, 11rem) 1fr auto; }
@media (max-width: 760px) { form.two { grid-template-columns: 1fr; } .takers li { grid-template-columns: 1fr; } }
</style>
