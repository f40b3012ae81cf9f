<script setup lang="ts">
import { type AsyncZippable, zip } from 'fflate'
import { computed, ref } from 'vue'

import { postFile } from '../api'
import { useDoing } from '../loading'
import type { AtStore } from './DossierStanding.vue'
import type { components } from '../schema'
import ProblemNote from './ProblemNote.vue'

/** The dossier as a folder of files: downloaded, held against the desk, and what was changed in it written here. */
type Schemas = components['schemas']
type Check = Schemas['FolderCheckTold']

const props = defineProps<{ app: string; stores: Pick<AtStore, 'store' | 'store_title'>[] }>()
const emit = defineEmits<{ written: [] }>()
const chooser = ref<HTMLInputElement>()
const doing = useDoing()
const under = ref('')
const packed = ref<Blob | null>(null)
const name = ref('')
const found = ref<Check | null>(null)
const said = ref('')
const mine = computed(() => (found.value?.changes ?? []).filter((one) => one.side === 'changed here'))
const theirs = computed(() => (found.value?.changes ?? []).filter((one) => one.side === 'changed at the desk'))
const both = computed(() => (found.value?.changes ?? []).filter((one) => one.side === 'changed at both'))
const against = computed(() => (found.value?.stores ?? []).map((store) => ({ ...store, findings: store.findings.filter((one) => one.level !== 'note') })).filter((store) => store.findings.length))
const place = computed(() => `/v1/apps/${props.app}/dossier`)
const shown = (text: string) => (/^[0-9a-f]{64}$/m.test(text) ? text.split('\n').map((one) => `file ${one.slice(0, 12)}`).join('\n') : text)

const SHORT_LINES = 6

/** What differs of a text: of a long one the lines alone that the other side does not have so. */
function differing(text: string, other: string): string {
  const [mine, theirs] = [shown(text).split('\n'), new Set(shown(other).split('\n'))]
  if (mine.length <= SHORT_LINES || !other) return shown(text) || 'nothing'
  return mine.filter((line) => !theirs.has(line)).map((line) => line.trim()).join('\n') || 'without the lines beside this'
}
async function pack(files: File[]): Promise<Blob> {
  const entries: AsyncZippable = {}
  for (const file of files) entries[file.webkitRelativePath || file.name] = [new Uint8Array(await file.arrayBuffer()), { level: 0 }]
  return new Promise((resolve, reject) => zip(entries, (wrong, bytes) => (wrong ? reject(wrong) : resolve(new Blob([bytes as BlobPart], { type: 'application/zip' })))))
}
async function choose(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const files = [...(input.files ?? [])].filter((file) => !(file.webkitRelativePath || file.name).split('/').some((part) => part.startsWith('.')))
  if (!files.length) return
  found.value = null
  said.value = ''
  name.value = files[0]!.webkitRelativePath.split('/')[0] || files[0]!.name
  under.value = 'Comparing …'
  await doing.run(async () => {
    packed.value = files.length === 1 && files[0]!.name.endsWith('.zip') ? files[0]! : await pack(files)
    found.value = await postFile<Check>(`${place.value}/folder-checks`, packed.value)
  })
  input.value = ''
}
async function write(): Promise<void> {
  if (!packed.value) return
  const wanted = packed.value
  under.value = 'Writing …'
  await doing.run(async () => {
    const { written } = await postFile<Schemas['FolderTakenTold']>(`${place.value}/folders`, wanted)
    said.value = written.length === 1 ? '1 change is written here.' : `${written.length} changes are written here.`
    found.value = null
    packed.value = null
    emit('written')
  })
}
</script>

<template>
  <section class="card-plain folder" aria-label="As a folder of files">
    <h2>As a folder of files</h2>
    <p class="soft small-print">The same dossier, to keep beside the app's source: texts, pictures, answers and goods. What you change in it is compared with what is here, line by line, before anything is written.</p>
    <div class="row-gap">
      <a class="btn btn-sm btn-outline-primary" :href="`${place}/folder`" download>Download it</a>
      <input ref="chooser" type="file" class="visually-hidden" webkitdirectory tabindex="-1" aria-label="A dossier folder" @change="choose" />
      <BButton data-needs="prepare" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="chooser?.click()">Compare a folder</BButton>
      <span v-for="store in stores" :key="store.store"><a class="small-print" :href="`${place}/folder?store=${store.store}`" download>What {{ store.store_title }} gets</a></span>
      <span v-if="doing.busy.value" class="soft" role="status">{{ under }}</span>
      <span v-else-if="said" role="status">✓ {{ said }}</span>
    </div>
    <ProblemNote :problem="doing.problem.value" />
    <div v-if="found" class="found" role="region" :aria-label="`What ${name} holds`">
      <p v-if="!found.changes.length">✓ {{ name }} and this page hold the same.</p>
      <template v-for="[title, changes] in ([['Changed in the folder', mine], ['Changed here since', theirs], ['Changed at both: settle these in the folder or here first', both]] as const)" :key="title">
        <template v-if="changes.length">
          <h3>{{ title }}</h3>
          <details v-for="one in changes" :key="one.place" :open="changes.length < 4">
            <summary>{{ one.place }}</summary>
            <div class="sides"><div><span class="soft">here</span><blockquote dir="auto">{{ differing(one.desk, one.here) }}</blockquote></div><div><span class="soft">in the folder</span><blockquote dir="auto">{{ differing(one.here, one.desk) }}</blockquote></div></div>
          </details>
        </template>
      </template>
      <div v-for="store in against" :key="store.store">
        <h3>{{ store.store_title }} would say</h3>
        <ul class="plain-list"><li v-for="one in store.findings" :key="`${one.place} ${one.detail}`" :class="one.level === 'blocker' ? 'problem' : 'remark'">{{ one.level === 'blocker' ? '✕' : '▲' }} {{ one.detail }} <span class="soft small-print">{{ one.place }}</span></li></ul>
      </div>
      <div class="row-gap"><BButton data-needs="prepare" v-if="mine.length" size="sm" variant="primary" :disabled="doing.busy.value || !!both.length" @click="write">Write {{ mine.length === 1 ? 'that change' : `these ${mine.length} changes` }} here</BButton><BButton data-needs="prepare" size="sm" variant="link" @click="found = null">Close</BButton></div>
    </div>
  </section>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.folder { margin-top: 1.6rem; display: grid; gap: 0.5rem; }
.folder p { margin: 0; }
h2 { font-size: 1.05rem; margin: 0; }
h3 { font-size: 0.95rem; margin: 0.6rem 0 0.2rem; }
.found { display: grid; gap: 0.4rem; border-left: 3px solid var(--accent); padding-left: 0.8rem; }
.sides { display: grid; grid-template-columns: 1fr 1fr; gap: 0.8rem; }
.sides blockquote { max-height: 14rem; overflow: auto; }
.problem { color: var(--alarm); }
@media (max-width: 760px) { .sides { grid-template-columns: 1fr; } }
</style>
