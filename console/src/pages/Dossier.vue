<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, Problem, told } from '../api'
import AppHead from '../components/AppHead.vue'
import ConfirmButton from '../components/ConfirmButton.vue'
import DossierFolder from '../components/DossierFolder.vue'
import DossierStanding from '../components/DossierStanding.vue'
import DossierTabs from '../components/DossierTabs.vue'
import DossierText from '../components/DossierText.vue'
import Explained from '../components/Explained.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { asProblem, useLoading } from '../loading'
import type { components } from '../schema'
import { differs, useSending } from '../sending'

/** What stores ask to be written about an app: once for all of them, one language beside another. */
type Texts = components['schemas']['TextsTold']

const props = defineProps<{ app: string }>()
const route = useRoute()
const path = { app: props.app }
const { data, problem, load, keep } = useLoading<Texts>(() => told(api.GET('/v1/apps/{app}/dossier/texts', { params: { path } })))
useLive(load, (change) => change.app === props.app || change.app === null)
const { doing, send, takeOver } = useSending(props.app, load)

const here = ref(String(route.query.locale ?? ''))
const beside = ref('')
const adding = ref(false)
const wanted = reactive({ locale: '', copy: '' })

const first = computed(() => data.value?.stores[0]?.language ?? 'en')
const locales = computed(() => [...new Set([...(data.value?.locales ?? []), first.value, ...(here.value ? [here.value] : [])])].sort())
const stores = computed(() => data.value?.stores ?? [])
const kept = (store: Texts['stores'][number]) => store.texts.filter((text) => text.state.startsWith('waits')).length
const sendable = (store: Texts['stores'][number]) => store.differing > kept(store)
const waiting = computed(() => stores.value.filter(sendable))
const atStores = computed(() =>
  stores.value.map((store) => ({
    ...store,
    sendable: sendable(store),
    kept: kept(store),
    settled: !store.differing,
    said: store.differing ? differs(store.differing, 'text', 'texts') : store.texts.length ? '✓ holds the texts as they are written' : 'no text yet',
  })),
)
/** The fields that any store of this app asks for, those that all share first. */
const fields = computed(() => (data.value?.fields ?? []).filter((field) => stores.value.some((store) => store.fields.some((own) => own.means === field.key))))
const alone = computed(() => stores.value.flatMap((store) => store.fields.filter((field) => field.means === null).map((field) => ({ store, field }))))
const counts = computed(() =>
  locales.value.map((locale) => {
    const written = fields.value.filter((field) => data.value?.texts.some((text) => text.locale === locale && text.field === field.key && !text.store)).length
    return { locale, written, of: fields.value.length }
  }),
)
watch(data, () => {
  if (!here.value) here.value = data.value?.locales.includes(first.value) || !data.value?.locales.length ? first.value : data.value.locales[0]!
})

const commonText = (locale: string, field: string) => data.value?.texts.find((text) => text.locale === locale && text.field === field && !text.store)
const ownText = (locale: string, store: string, field: string) => data.value?.texts.find((text) => text.locale === locale && text.field === field && text.store === store)

async function save(locale: string, field: string, text: string, revision: number, store: string | null = null): Promise<Problem | null> {
  try {
    await told(api.PUT('/v1/apps/{app}/dossier/texts/{locale}', { params: { path: { ...path, locale }, header: { 'if-match': `"${revision}"` } }, body: { texts: { [field]: text }, store } }))
    return null
  } catch (wrong) {
    return asProblem(wrong)
  } finally {
    await load()
  }
}

async function add(): Promise<void> {
  const done = await doing.run(async () => {
    if (wanted.copy) keep(await told(api.POST('/v1/apps/{app}/dossier/texts/{locale}/copies', { params: { path: { ...path, locale: wanted.locale } }, body: { source: wanted.copy } })))
  })
  if (!done) return
  beside.value = wanted.copy
  here.value = data.value?.locales.find((known) => known.toLowerCase() === wanted.locale.toLowerCase()) ?? wanted.locale
  adding.value = false
  wanted.locale = ''
}

async function drop(): Promise<void> {
  const gone = here.value
  const done = await doing.run(async () => keep(await told(api.DELETE('/v1/apps/{app}/dossier/texts/{locale}', { params: { path: { ...path, locale: gone } } }))), `The texts in ${gone} are taken out`)
  if (done) here.value = data.value?.locales[0] ?? first.value
}
</script>

<template>
  <AppHead title="Dossier">
    <BButton data-needs="prepare" v-if="waiting.length" variant="primary" :disabled="doing.busy.value" @click="send(null)">Send what differs</BButton>
  </AppHead>
  <DossierTabs :app="app" />
  <p class="soft intro">The <Explained word="dossier" /> holds what stores ask about an app. A text is written once and goes to every store that asks for it.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <template v-if="data">
    <DossierStanding
      label="Where the texts stand" :stores="atStores" :words="{ one: 'text', many: 'texts', all: 'texts', done: 'wrote' }" none="No store where this app has a place asks for texts."
      :busy="doing.busy.value" @send="send" @take="takeOver"
    />

    <div class="row-gap languages" role="group" aria-label="Languages">
      <button v-for="one in counts" :key="one.locale" type="button" class="chip" :aria-pressed="here === one.locale" @click="here = one.locale">{{ one.locale }} <span class="soft">{{ one.written }} of {{ one.of }}</span></button>
      <BButton data-needs="prepare" v-if="!adding" size="sm" variant="link" @click="((adding = true), (wanted.copy = here))">Add a language</BButton>
      <label class="row-gap beside">Beside it
        <select v-model="beside" class="form-select form-select-sm"><option value="">nothing</option><option v-for="one in locales.filter((known) => known !== here)" :key="one">{{ one }}</option></select>
      </label>
      <ConfirmButton data-needs="prepare" v-if="data.locales.includes(here)" :said="`Take out ${here}`" :consequence="`Every text in ${here} goes, for all stores.`" sure="Take them out" :disabled="doing.busy.value" @do="drop" />
    </div>
    <form v-if="adding" class="card-plain row-gap add" @submit.prevent="add">
      <label>Language <input v-model="wanted.locale" class="form-control form-control-sm" placeholder="de-AT" required maxlength="35" autofocus /></label>
      <label>Begin with the texts of <select v-model="wanted.copy" class="form-select form-select-sm"><option value="">nothing</option><option v-for="one in data.locales" :key="one">{{ one }}</option></select></label>
      <BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Add it</BButton>
      <BButton size="sm" variant="link" @click="adding = false">Cancel</BButton>
    </form>

    <DossierText
      v-for="field in fields" :key="`${here}/${field.key}`" :field="field" :locale="here" :beside="beside" :written="commonText(here, field.key)" :other="beside ? commonText(beside, field.key)?.text ?? '' : ''"
      :stores="stores" :own="(store: string, key: string) => ownText(here, store, key)" :asked="route.query.field === field.key" :save="save"
    />
    <DossierText
      v-for="{ store, field } in alone" :key="`${here}/${store.store}/${field.key}`" :field="{ ...field, means: null }" :only="store.store" :locale="here" :beside="beside" :written="ownText(here, store.store, field.key)"
      :other="beside ? ownText(beside, store.store, field.key)?.text ?? '' : ''" :stores="[store]" :own="() => undefined" :asked="route.query.field === field.key" :save="save"
    />
    <DossierFolder :app="app" :stores="stores" @written="load" />
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.languages { margin-bottom: 0.8rem; }
.chip { border: 1px solid var(--line); background: none; color: inherit; border-radius: 1rem; padding: 0.2rem 0.8rem; }
.chip[aria-pressed='true'] { border-color: var(--accent); box-shadow: inset 0 0 0 1px var(--accent); font-weight: 600; }
.chip .soft { font-weight: 400; font-size: 0.85rem; }
.beside { margin-left: auto; }
.beside select { width: auto; }
.add { margin-bottom: 0.8rem; align-items: end; }
.add label { display: grid; gap: 0.2rem; }
</style>
