<script setup lang="ts">
import { computed, nextTick, onMounted, reactive, ref } from 'vue'

import { postFile, type Problem } from '../api'
import { useDoing } from '../loading'
import type { PictureFile } from '../picturing'
import { LIMITS } from '../states'
import { copied, type Good, KINDS, left, type StoreGoods } from '../selling'

/** A good to be entered or changed. Nothing is saved before Save is pressed. */
const props = defineProps<{ reference: string; good: Good | null; stores: StoreGoods[]; first: string; known: string[]; save: (reference: string, good: Good) => Promise<Problem | null> }>()
const emit = defineEmits<{ close: [] }>()

const blank = (): Good => ({ kind: 'kept', price: '', currency: 'EUR', months: null, on_sale: true, texts: { [props.first]: { name: '', description: '' } }, picture: null, stores: [] })
const mine = reactive<Good>(props.good ? copied(props.good) : blank())
const name = ref(props.reference)
const language = ref('')
const busy = ref(false)
const sending = useDoing()
const problem = ref<Problem | null>(null)
const box = ref<HTMLElement>()
const picture = ref<HTMLInputElement>()
const taken = computed(() => !props.good && props.known.includes(name.value))
/** The stores that would get it. */
const meant = computed(() => props.stores.filter((store) => !mine.stores?.length || mine.stores.includes(store.store)))
const spare = (locale: string, which: 'name_limit' | 'description_limit') => left(which === 'name_limit' ? mine.texts[locale]!.name : (mine.texts[locale]!.description ?? ''), meant.value, which)
const wants = computed(() => meant.value.filter((store) => store.rules.picture).map((store) => `${store.store_title}: ${store.rules.picture}${store.rules.picture_required ? '' : ', or none'}`))
const currencies = computed(() => [...new Set(props.stores.flatMap((store) => store.rules.currencies))])

onMounted(async () => {
  await nextTick()
  box.value?.scrollIntoView({ block: 'nearest' })
  box.value?.querySelector<HTMLElement>(props.good ? 'select' : 'input')?.focus()
})
function renew(): void {
  mine.months = mine.kind === 'renewed' ? (mine.months ?? 1) : null
}
function sell(store: string): void {
  const chosen = mine.stores?.length ? mine.stores : props.stores.map((one) => one.store)
  const next = chosen.includes(store) ? chosen.filter((one) => one !== store) : [...chosen, store]
  mine.stores = next.length === props.stores.length ? [] : next
}
function speak(): void {
  mine.texts[language.value.trim()] = { name: '', description: '' }
  language.value = ''
}
function unspeak(locale: string): void {
  delete mine.texts[locale]
}
async function choose(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const [file] = input.files ?? []
  input.value = ''
  if (!file) return
  await sending.run(async () => {
    mine.picture = (await postFile<PictureFile>('/v1/pictures', file)).sha256
  })
}
async function keep(): Promise<void> {
  busy.value = true
  problem.value = await props.save(name.value.trim(), copied(mine))
  busy.value = false
  if (!problem.value) emit('close')
}
</script>

<template>
  <form ref="box" class="good" @submit.prevent="keep" @keydown.esc="emit('close')">
    <div class="row-gap fields">
      <label v-if="!good">Reference <input v-model="name" class="form-control form-control-sm" required :maxlength="LIMITS.reference" pattern="[a-z0-9][a-z0-9._\-]*" placeholder="map-of-the-north" title="Small letters, digits, dots and dashes; it stays for ever" /></label>
      <label>Kind <select v-model="mine.kind" class="form-select form-select-sm" @change="renew"><option v-for="(words, kind) in KINDS" :key="kind" :value="kind">{{ words }}</option></select></label>
      <label v-if="mine.kind === 'renewed'">Every so many months <input v-model.number="mine.months" type="number" class="form-control form-control-sm short" min="1" :max="LIMITS.months" required /></label>
      <label>Price <input v-model="mine.price" class="form-control form-control-sm short" inputmode="decimal" required pattern="[0-9]+([.][0-9]{1,4})?" placeholder="4.50" title="Such as 4.50" /></label>
      <label>Currency <input v-model="mine.currency" class="form-control form-control-sm short" required pattern="[A-Z]{3}" maxlength="3" list="currencies" title="Three capital letters, such as EUR" /></label>
      <datalist id="currencies"><option v-for="one in currencies" :key="one" :value="one" /></datalist>
      <label class="tick"><input v-model="mine.on_sale" type="checkbox" class="form-check-input" /> On sale</label>
    </div>
    <p v-if="taken" class="problem">✕ There is a good under this reference already.</p>
    <fieldset v-if="stores.length > 1" class="row-gap sold">
      <legend>Sold at</legend>
      <label v-for="store in stores" :key="store.store" class="tick"><input type="checkbox" class="form-check-input" :checked="meant.includes(store)" @change="sell(store.store)" /> {{ store.store_title }}</label>
    </fieldset>
    <div v-for="(text, locale) in mine.texts" :key="locale" class="language">
      <span class="who">{{ locale }}</span>
      <div><label>Name <input v-model="text.name" class="form-control form-control-sm" required :maxlength="LIMITS.goodName" dir="auto" :aria-describedby="`name-left-${locale}`" /></label>
        <span v-if="spare(locale, 'name_limit')" :id="`name-left-${locale}`" class="soft small-print" :class="{ over: spare(locale, 'name_limit')!.left < 0 }">{{ spare(locale, 'name_limit')!.left }} left at {{ spare(locale, 'name_limit')!.store }}</span></div>
      <div><label>Description <textarea v-model="text.description" class="form-control form-control-sm" rows="2" :maxlength="LIMITS.goodText" dir="auto" :aria-describedby="`description-left-${locale}`" /></label>
        <span v-if="spare(locale, 'description_limit')" :id="`description-left-${locale}`" class="soft small-print" :class="{ over: spare(locale, 'description_limit')!.left < 0 }">{{ spare(locale, 'description_limit')!.left }} left at {{ spare(locale, 'description_limit')!.store }}</span></div>
      <BButton data-needs="prepare" v-if="Object.keys(mine.texts).length > 1" size="sm" variant="link" :aria-label="`Take ${locale} out`" @click="unspeak(locale)">Take out</BButton>
    </div>
    <div class="row-gap">
      <label class="row-gap">Language <input v-model="language" class="form-control form-control-sm short" placeholder="de" :maxlength="LIMITS.locale" pattern="[A-Za-z]{2,3}(-[A-Za-z0-9]+)*" @keydown.enter.prevent="language && speak()" /></label>
      <BButton data-needs="prepare" size="sm" variant="outline-primary" :disabled="!language.trim() || language.trim() in mine.texts" @click="speak">Add the language</BButton>
    </div>
    <div v-if="wants.length" class="row-gap">
      <img v-if="mine.picture" :src="`/v1/pictures/${mine.picture}/small`" alt="The picture of the good" />
      <input ref="picture" type="file" class="visually-hidden" accept="image/png,image/jpeg,image/webp" tabindex="-1" aria-label="A picture of the good" @change="choose" />
      <BButton data-needs="prepare" size="sm" variant="outline-primary" :disabled="sending.busy.value" @click="picture?.click()">{{ mine.picture ? 'Choose another picture' : 'Choose a picture' }}</BButton>
      <BButton data-needs="prepare" v-if="mine.picture" size="sm" variant="link" @click="mine.picture = null">Take it out</BButton>
      <span v-if="sending.busy.value" class="soft" role="status">Sending …</span>
      <span v-else class="soft small-print">{{ wants.join(' · ') }}</span>
    </div>
    <p v-for="wrong in [problem, sending.problem.value].filter((one) => one !== null)" :key="wrong.message" class="problem" role="alert">✕ {{ wrong.message }} {{ wrong.remedy }}</p>
    <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="busy || sending.busy.value || taken">Save</BButton><BButton size="sm" variant="link" @click="emit('close')">Cancel</BButton></div>
  </form>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.good { display: grid; gap: 0.7rem; }
.good label { display: grid; gap: 0.15rem; }
.good .tick, .good label.row-gap { display: flex; gap: 0.4rem; align-items: center; }
.tick input { margin: 0; }
.short { width: 6.5rem; }
.fields { align-items: end; }
.sold { border: 0; padding: 0; margin: 0; }
.sold legend { font-size: 0.9rem; width: auto; float: none; margin: 0; }
.language { display: grid; grid-template-columns: 3.5rem minmax(10rem, 1fr) minmax(12rem, 2fr) auto; gap: 0.2rem 0.9rem; align-items: start; }
.problem { margin: 0; }
img { width: 4rem; height: 4rem; object-fit: contain; border: 1px solid var(--line); border-radius: 0.4rem; }
@media (max-width: 760px) { .language { grid-template-columns: minmax(0, 1fr); } .language > button { justify-self: start; padding-left: 0; } }
</style>
