<script setup lang="ts">
import { computed, ref } from 'vue'

import { type ImportSheet, postFile } from '../api'
import { useDoing } from '../loading'
import FindingList from './FindingList.vue'
import ProblemNote from './ProblemNote.vue'

/** Take a list of testers in: chosen, looked at row by row, then applied as one act. */
const props = defineProps<{ path: string; into: string }>()
const emit = defineEmits<{ done: []; leave: [] }>()

const file = ref<File | null>(null)
const sheet = ref<ImportSheet | null>(null)
const column = ref('')
const skip = ref(false)
const doing = useDoing()
const bad = computed(() => sheet.value?.counts.bad ?? 0)
const coming = computed(() => (sheet.value?.counts.new ?? 0) + (sheet.value?.counts.known ?? 0))
const short = computed(() => (sheet.value?.findings ?? []).filter((finding) => finding.code !== 'rows-bad'))
const WORDS: Record<string, string> = { new: 'new to the desk', known: 'known to the desk', 'already there': 'in the cohort already', twice: 'twice in the list', bad: 'cannot be taken' }

function address(dry: boolean): string {
  const query = new URLSearchParams({ dry_run: String(dry), skip_bad: String(skip.value) })
  if (column.value.trim()) query.append('column', `address=${column.value.trim()}`)
  return `${props.path}?${query}`
}

async function look(): Promise<void> {
  if (!file.value) return
  sheet.value = null
  await doing.run(async () => (sheet.value = await postFile<ImportSheet>(address(true), file.value!, 'text/csv')))
}

function choose(event: Event): void {
  file.value = (event.target as HTMLInputElement).files?.[0] ?? null
  skip.value = false
  void look()
}

async function apply(): Promise<void> {
  const done = await doing.run(async () => (sheet.value = await postFile<ImportSheet>(address(false), file.value!, 'text/csv')))
  if (done) emit('done')
}
</script>

<template>
  <section class="card-plain import" aria-labelledby="import">
    <h2 id="import">Import a list</h2>
    <p class="soft">CSV with an address on each line; name, platform, language, tags and devices are read where a column is called so. Nothing is changed before you have seen what becomes of each row.</p>
    <ProblemNote :problem="doing.problem.value" />
    <div class="row-gap">
      <label class="file">List <input type="file" accept=".csv,.txt,text/csv,text/plain" class="form-control" @change="choose" /></label>
      <label v-if="file" class="file">Column of the address <input v-model="column" class="form-control" placeholder="found automatically" @change="look" /></label>
    </div>
    <template v-if="sheet">
      <p class="row-gap counts"><span v-for="(count, kind) in sheet.counts" :key="kind" :class="{ bad: kind === 'bad' && count, none: !count }"><strong>{{ count.toLocaleString('en') }}</strong> {{ WORDS[kind] ?? kind }}</span></p>
      <p class="soft small-print">{{ sheet.encoding }}, parted by {{ sheet.delimiter }}. Read: {{ Object.entries(sheet.columns).map(([name, where]) => `${name} from “${where}”`).join(', ') }}.<template v-if="sheet.ignored.length"> Not read: {{ sheet.ignored.join(', ') }}.</template></p>
      <p v-for="said in sheet.said" :key="said" class="care">■ {{ said }}</p>
      <FindingList v-if="short.length" :findings="short" />
      <div v-if="sheet.rows.length" class="rows scroll-x">
        <table class="table-plain">
          <thead><tr><th>Line</th><th>Row</th><th>What becomes of it</th><th>Why</th></tr></thead>
          <tbody><tr v-for="row in sheet.rows" :key="row.line" :class="{ bad: row.kind === 'bad' }"><td>{{ row.line }}</td><td>{{ row.address || row.raw || '(empty)' }}</td><td>{{ row.kind === 'bad' ? '✕ cannot be taken' : WORDS[row.kind] }}</td><td>{{ row.said }}</td></tr></tbody>
        </table>
      </div>
      <label v-if="bad" class="row-gap"><input v-model="skip" type="checkbox" class="form-check-input" /> Leave the {{ bad }} bad row{{ bad === 1 ? '' : 's' }} out</label>
    </template>
    <div class="row-gap">
      <BButton variant="primary" :disabled="!sheet || doing.busy.value || (bad > 0 && !skip) || short.some((finding) => finding.level === 'blocker') || !coming" @click="apply">{{ sheet ? `Take ${coming.toLocaleString('en')} people into ${into}` : 'Take them in' }}</BButton>
      <BButton variant="link" @click="emit('leave')">Cancel</BButton>
      <span v-if="doing.busy.value" class="soft" role="status">Reading …</span>
    </div>
  </section>
</template>

<style scoped>
.import { display: grid; gap: 0.7rem; margin-bottom: 1rem; border-color: var(--accent); }
.import p { margin: 0; }
.file { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.counts { gap: 0.4rem 1.5rem; }
.none { color: var(--soft); }
.bad { color: var(--alarm); }
.care { color: var(--care); }
.rows { max-height: 20rem; overflow-y: auto; border: 1px solid var(--line); border-radius: 0.5rem; padding: 0 0.8rem; }
</style>
