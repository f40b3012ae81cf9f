<script setup lang="ts">
import { computed, nextTick, onBeforeUpdate, onUpdated, ref, watch } from 'vue'

import { postFile, Problem } from '../api'
import { described, type PictureFile } from '../picturing'

/** The pictures of one set in their order: added, dragged, moved by keys, taken out. Every change is saved at once and can be undone. */
const props = defineProps<{
  label: string
  film: boolean
  pictures: PictureFile[]
  most: number
  save: (pictures: string[]) => Promise<Problem | null>
}>()

const box = ref<HTMLElement>()
const chooser = ref<HTMLInputElement>()
const dragged = ref<number | null>(null)
const over = ref(false)
const busy = ref('')
const problems = ref<string[]>([])
const before = ref<string[] | null>(null)
const said = ref('')
const digests = computed(() => props.pictures.map((one) => one.sha256))
const word = computed(() => (props.most === 1 ? (props.pictures.length ? 'Put in another' : props.film ? 'Add a film' : 'Add a picture') : props.film ? 'Add films' : 'Add pictures'))
const takes = computed(() => (props.film ? 'video/mp4,video/webm' : 'image/png,image/jpeg,image/webp,image/gif'))
watch(() => props.label, () => (before.value = null))
/** An element that is moved within the page loses the focus: news from others must not take the next key from the picture it was meant for. */
let focused: Element | null = null
onBeforeUpdate(() => (focused = box.value?.contains(document.activeElement) ? document.activeElement : null))
onUpdated(() => {
  if (focused?.isConnected && document.activeElement === document.body) (focused as HTMLElement).focus({ preventScroll: true })
})

async function change(wanted: string[], told: string): Promise<void> {
  const was = digests.value
  const wrong = await props.save(wanted)
  if (wrong) {
    problems.value = [`${wrong.message} ${wrong.remedy}`]
    return
  }
  before.value = was
  said.value = told
  await nextTick()
}
/** Changes come one after the other: each begins from what the one before it has left. */
let last: Promise<unknown> = Promise.resolve()
function next(act: () => Promise<void>): void {
  last = last.then(act, act)
}
async function undo(): Promise<void> {
  const wanted = before.value
  if (!wanted) return
  before.value = null
  const wrong = await props.save(wanted)
  problems.value = wrong ? [`${wrong.message} ${wrong.remedy}`] : []
  await nextTick()
}
async function add(files: File[]): Promise<void> {
  problems.value = []
  const kept: string[] = []
  for (const [at, file] of files.entries()) {
    busy.value = files.length > 1 ? `Sending ${at + 1} of ${files.length}: ${file.name}` : `Sending ${file.name}`
    try {
      kept.push((await postFile<PictureFile>('/v1/pictures', file)).sha256)
    } catch (wrong) {
      problems.value.push(`${file.name}: ${wrong instanceof Problem ? `${wrong.message} ${wrong.remedy}` : String(wrong)}`)
    }
  }
  busy.value = ''
  const wanted = [...new Set([...(props.most === 1 && kept.length ? [] : digests.value), ...kept])]
  if (wanted.join() !== digests.value.join()) await change(wanted, kept.length === 1 ? '1 put in.' : `${kept.length} put in.`)
}
function chosen(event: Event): void {
  const input = event.target as HTMLInputElement
  const files = [...(input.files ?? [])]
  next(() => add(files))
  input.value = ''
}
async function move(one: string, to: number): Promise<void> {
  const from = digests.value.indexOf(one)
  if (from < 0 || to < 0 || to >= digests.value.length || to === from) return
  const wanted = [...digests.value]
  wanted.splice(to, 0, ...wanted.splice(from, 1))
  await change(wanted, `Number ${from + 1} is number ${to + 1} now.`)
  box.value?.querySelectorAll<HTMLElement>('.picture')[to]?.focus()
}
const moveBy = (one: string, step: number) => next(() => move(one, digests.value.indexOf(one) + step))
async function drop(one: string): Promise<void> {
  const at = digests.value.indexOf(one)
  if (at < 0) return
  await change(digests.value.filter((other) => other !== one), `Number ${at + 1} is taken out.`)
  const left = box.value?.querySelectorAll<HTMLElement>('.picture') ?? []
  ;(left[Math.min(at, left.length - 1)] ?? box.value?.querySelector<HTMLElement>('button'))?.focus()
}
function keyed(event: KeyboardEvent, one: string, at: number): void {
  if (event.target !== event.currentTarget) return
  const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  if (step && event.altKey) {
    event.preventDefault()
    moveBy(one, step)
  } else if (step) {
    event.preventDefault()
    box.value?.querySelectorAll<HTMLElement>('.picture')[at + step]?.focus()
  } else if (event.key === 'Delete') {
    event.preventDefault()
    next(() => drop(one))
  }
}
function landed(event: DragEvent, at: number | null): void {
  over.value = false
  const files = [...(event.dataTransfer?.files ?? [])]
  const lifted = dragged.value === null ? undefined : digests.value[dragged.value]
  if (files.length) next(() => add(files))
  else if (lifted && at !== null) next(() => move(lifted, at))
  dragged.value = null
}
</script>

<template>
  <div ref="box" class="strip" :class="{ over, single: most === 1 }" role="group" :aria-label="label" @dragover.prevent="over = dragged === null" @dragleave="over = false" @drop.prevent="landed($event, null)">
    <ul class="plain-list pictures">
      <li
        v-for="(one, at) in pictures" :key="one.sha256" class="picture" :class="{ lifted: dragged === at }" tabindex="0" draggable="true" :aria-label="`Number ${at + 1}, ${described(one)}`" aria-description="Alt with an arrow key moves it, Delete takes it out"
        @keydown="keyed($event, one.sha256, at)" @dragstart="dragged = at" @dragend="dragged = null" @dragover.prevent @drop.prevent.stop="landed($event, at)"
      >
        <a :href="`/v1/pictures/${one.sha256}`" target="_blank" rel="noopener" :aria-label="`Open number ${at + 1} in full size`" tabindex="-1"><img :src="`/v1/pictures/${one.sha256}/small`" :width="one.width" :height="one.height" alt="" draggable="false" loading="lazy" /></a>
        <span class="small-print"><b>{{ at + 1 }}</b> <span class="soft">{{ described(one) }}</span></span>
        <span class="acts">
          <button v-if="pictures.length > 1" type="button" :aria-label="`Move number ${at + 1} forward`" :disabled="at === 0" @click="moveBy(one.sha256, -1)">←</button>
          <button v-if="pictures.length > 1" type="button" :aria-label="`Move number ${at + 1} back`" :disabled="at === pictures.length - 1" @click="moveBy(one.sha256, 1)">→</button>
          <button type="button" :aria-label="`Remove number ${at + 1}`" @click="next(() => drop(one.sha256))">Remove</button>
        </span>
      </li>
    </ul>
    <div class="row-gap">
      <input ref="chooser" type="file" class="visually-hidden" :accept="takes" multiple tabindex="-1" :aria-label="`Files for ${label}`" @change="chosen" />
      <BButton v-if="pictures.length < most || most === 1" size="sm" variant="outline-primary" :disabled="!!busy" @click="chooser?.click()">{{ word }}</BButton>
      <span class="soft small-print">{{ busy || (pictures.length > 1 ? 'Drag them into order, or drop files here.' : 'Or drop files here.') }}</span>
      <span v-if="before" class="small-print" role="status">{{ said }} <BButton size="sm" variant="link" @click="next(undo)">Undo</BButton></span>
    </div>
    <p v-for="one in problems" :key="one" class="problem" role="alert">✕ {{ one }}</p>
  </div>
</template>

<style scoped>
.strip { border: 1px dashed var(--edge); border-radius: 0.6rem; padding: 0.7rem; }
.strip.single { display: flex; flex-wrap: wrap; gap: 0.6rem 1.2rem; align-items: center; }
.strip.single .pictures { margin: 0; }
.strip.single .pictures:empty { display: none; }
.strip.single .picture img { height: 6rem; }
.strip.single .problem { width: 100%; }
.strip.over { border-color: var(--accent); background: color-mix(in srgb, var(--accent) 8%, transparent); }
.pictures { display: flex; flex-wrap: wrap; gap: 0.9rem; }
.pictures:not(:empty) { margin-bottom: 0.6rem; }
.picture { display: grid; gap: 0.2rem; justify-items: start; cursor: grab; border-radius: 0.4rem; padding: 0.2rem; }
.picture.lifted { opacity: 0.45; }
.picture img { height: 9rem; width: auto; max-width: 15rem; object-fit: contain; border: 1px solid var(--line); border-radius: 0.35rem; background: repeating-conic-gradient(var(--line) 0 25%, transparent 0 50%) 0 / 16px 16px; display: block; }
.acts { display: flex; gap: 0.15rem; }
.acts button { border: 0; background: none; color: var(--accent); padding: 0.1rem 0.45rem; min-height: 1.6rem; min-width: 1.6rem; font-size: 0.875rem; }
.acts button:disabled { color: var(--soft); opacity: 0.55; }
.problem { color: var(--alarm); font-weight: 600; margin: 0.5rem 0 0; }
</style>
