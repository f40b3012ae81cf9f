<script setup lang="ts">
import { computed, nextTick, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, postFile, Problem, told } from '../api'
import AppHead from '../components/AppHead.vue'
import DossierPictures from '../components/DossierPictures.vue'
import DossierStanding from '../components/DossierStanding.vue'
import DossierTabs from '../components/DossierTabs.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { asProblem, useLoading } from '../loading'
import type { PictureFile, Pictures, StoreClass, StorePictures, Taker } from '../picturing'
import { LIMITS } from '../states'
import { differs, toRight, useSending } from '../sending'

/** The pictures and films of an app: put in once, and made to fit what each store takes. */
const props = defineProps<{ app: string }>()
const route = useRoute()
const path = { app: props.app }
const { data, problem, load, keep } = useLoading<Pictures>(() => told(api.GET('/v1/apps/{app}/dossier/pictures', { params: { path } })))
useLive(load, (change) => change.app === props.app || change.app === null)
const { doing, send, takeOver } = useSending(props.app, load)

const here = ref(String(route.query.locale ?? ''))
const added = ref<string[]>([])
const adding = ref(false)
const wanted = reactive({ locale: '' })
const importing = reactive({ said: '', left: [] as string[] })
const several = ref<HTMLInputElement>()
const folder = ref<HTMLInputElement>()

const stores = computed(() => data.value?.stores ?? [])
const first = computed(() => stores.value[0]?.language ?? 'en')
const locales = computed(() => [...new Set([...(data.value?.locales ?? []), first.value, ...added.value, ...(here.value ? [here.value] : [])])].sort())
/** Bring the first thing that a store would refuse into view. */
async function toFirst(name: string): Promise<void> {
  const store = stores.value.find((one) => one.store === name)
  if (!store) return
  const [, locale, key] = store.findings.find((one) => one.level === 'blocker')?.place.split('.') ?? []
  const rule = store.classes.find((one) => one.key === key)
  if (!locale || !rule) return
  here.value = locale
  await nextTick()
  const card = document.getElementById(`pictures-${rule.means ?? rule.key}`)
  card?.scrollIntoView({ block: 'center' })
  card?.querySelector<HTMLElement>('.picture, button')?.focus()
}
const kept = (store: StorePictures) => store.sets.filter((one) => one.state.startsWith('waits')).length
const sendable = (store: StorePictures) => store.differing > kept(store)
const lacking = (store: StorePictures) => store.findings.filter((one) => one.level === 'blocker').length
const atStores = computed(() =>
  stores.value.map((store) => ({
    ...store,
    sendable: sendable(store),
    unfit: lacking(store) > 0,
    kept: kept(store),
    settled: !lacking(store) && !store.differing,
    said: lacking(store) ? toRight(lacking(store)) : store.differing ? differs(store.differing, 'set', 'sets') : store.sets.length ? '✓ holds the pictures as they are put in' : 'no pictures yet',
  })),
)
watch(data, () => {
  if (!here.value) here.value = first.value
})

const set = (key: string, store: string | null = null) => data.value?.sets.find((one) => one.locale === here.value && one.picture_class === key && one.store === store)
const taken = (store: StorePictures, rule: StoreClass): Taker[] => {
  if (store.locales.length && !store.locales.includes(here.value)) return []
  if (!rule.by_locale && here.value !== store.language) return []
  const own = data.value?.sets.find((one) => one.locale === here.value && one.picture_class === rule.key && one.store === store.store)
  return [{ store, rule, own, set: store.sets.find((one) => one.locale === here.value && one.picture_class === rule.key) }]
}
const takers = (key: string) => stores.value.flatMap((store) => store.classes.filter((rule) => rule.means === key).flatMap((rule) => taken(store, rule)))
const classes = computed(() => (data.value?.classes ?? []).map((one) => ({ ...one, takers: takers(one.key) })).filter((one) => one.takers.length || set(one.key)))
const alone = computed(() => stores.value.flatMap((store) => store.classes.filter((rule) => rule.means === null).flatMap((rule) => taken(store, rule))))
const asked = (keys: string[]) => keys.includes(String(route.query.class ?? ''))
const icons = computed(() => data.value?.icons)

async function save(locale: string, key: string, pictures: string[], revision: number, store: string | null = null): Promise<Problem | null> {
  try {
    keep(await told(api.PUT('/v1/apps/{app}/dossier/pictures/{locale}/{picture_class}', { params: { path: { ...path, locale, picture_class: key }, header: { 'if-match': `"${revision}"` } }, body: { pictures, store } })))
    return null
  } catch (wrong) {
    await load()
    return asProblem(wrong)
  }
}

/** Send many files and have the desk see where each belongs. */
async function importFiles(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const files = [...(input.files ?? [])].filter((file) => /\.(png|jpe?g|webp|gif|mp4|m4v|mov|webm)$/i.test(file.name))
  importing.left = []
  const sent: { sha256: string; name: string }[] = []
  for (const [at, file] of files.entries()) {
    importing.said = `Sending ${at + 1} of ${files.length}: ${file.name}`
    const name = file.webkitRelativePath.split('/').slice(1).join('/') || file.name
    try {
      sent.push({ sha256: (await postFile<PictureFile>('/v1/pictures', file)).sha256, name })
    } catch (wrong) {
      importing.left.push(`${name}: ${asProblem(wrong).message}`)
    }
  }
  input.value = ''
  importing.said = files.length ? '' : 'There is no picture and no film among these files.'
  if (!sent.length) return
  await doing.run(async () => {
    const found = await told(api.POST('/v1/apps/{app}/dossier/picture-imports', { params: { path }, body: { files: sent, instead: false, trial: false } }))
    importing.left.push(...found.files.filter((one) => one.why).map((one) => `${one.name}: ${one.why}.`))
    importing.said = `${found.put_in === 1 ? '1 file is' : `${found.put_in} files are`} put in where ${found.put_in === 1 ? 'it belongs' : 'they belong'}${importing.left.length ? `, ${importing.left.length} left out` : ''}.`
    await load()
  })
}

function add(): void {
  added.value.push(wanted.locale.trim())
  here.value = wanted.locale.trim()
  wanted.locale = ''
  adding.value = false
}
</script>

<template>
  <AppHead title="Dossier">
    <BButton data-needs="prepare" v-if="stores.some(sendable) && !stores.some(lacking)" variant="primary" :disabled="doing.busy.value" @click="send(null)">Send what differs</BButton>
  </AppHead>
  <DossierTabs :app="app" />
  <p class="soft intro">A picture is put in once. Every store gets it in the size and format that it takes; nothing is enlarged or distorted.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <template v-if="data">
    <DossierStanding
      label="Where the pictures stand" :stores="atStores" :words="{ one: 'set', many: 'sets', all: 'pictures', done: 'put in' }" none="No store where this app has a place asks for pictures."
      :busy="doing.busy.value" @send="send" @take="takeOver" @first="toFirst"
    />

    <div class="row-gap languages" role="group" aria-label="Languages">
      <button v-for="one in locales" :key="one" type="button" class="chip" :aria-pressed="here === one" @click="here = one">{{ one }} <span class="soft">{{ data.sets.filter((found) => found.locale === one && !found.store).length || 'none' }}</span></button>
      <BButton data-needs="prepare" v-if="!adding" size="sm" variant="link" @click="adding = true">Add a language</BButton>
      <form v-else class="row-gap" @submit.prevent="add">
        <label class="row-gap">Language <input v-model="wanted.locale" class="form-control form-control-sm locale" placeholder="de-AT" required :maxlength="LIMITS.locale" pattern="[A-Za-z]{2,3}(-[A-Za-z0-9]+)*" autofocus /></label>
        <BButton data-needs="prepare" type="submit" size="sm" variant="primary">Show it</BButton>
        <BButton size="sm" variant="link" @click="adding = false">Cancel</BButton>
      </form>
      <span class="row-gap many">
        <input ref="several" type="file" class="visually-hidden" multiple accept="image/*,video/mp4,video/webm" tabindex="-1" aria-label="Several files to import" @change="importFiles" />
        <input ref="folder" type="file" class="visually-hidden" webkitdirectory tabindex="-1" aria-label="A folder to import" @change="importFiles" />
        <BButton data-needs="prepare" size="sm" variant="link" :disabled="doing.busy.value" @click="several?.click()">Import many files</BButton>
        <BButton data-needs="prepare" size="sm" variant="link" :disabled="doing.busy.value" @click="folder?.click()">Import a folder</BButton>
      </span>
    </div>
    <div v-if="importing.said || importing.left.length" class="card-plain import" role="status">
      <p>{{ importing.said }}</p>
      <ul v-if="importing.left.length" class="plain-list"><li v-for="one in importing.left" :key="one">▲ {{ one }}</li></ul>
    </div>

    <template v-for="one in classes" :key="one.key">
      <DossierPictures
        :id="one.key" :title="one.title" :help="one.help" :film="one.form === 'film'" :locale="here" :first="first" :set="set(one.key)" :takers="one.takers"
        :asked="asked([one.key, ...one.takers.map((taker) => taker.rule.key)])" :save="save"
      />
      <section v-if="one.key === 'icon' && icons && here === first" class="card-plain icons" aria-label="The icon beside the one inside the package">
        <figure><img :src="`/v1/pictures/${icons.original}/small`" alt="The icon for stores" /><figcaption>For stores</figcaption></figure>
        <figure><img :src="`/v1/packages/${icons.package}/icon`" alt="The icon inside the newest package" /><figcaption>In the newest package</figcaption></figure>
        <p v-if="icons.alike">✓ The two resemble each other.</p>
        <p v-else-if="icons.alike === false" class="remark">▲ The two do not resemble each other. People who find the app in a store would not know it again.</p>
        <p v-else class="soft">The two cannot be compared here.</p>
      </section>
    </template>
    <DossierPictures
      v-for="taker in alone" :id="taker.rule.key" :key="`${taker.store.store}/${taker.rule.key}`" :title="taker.rule.title" :help="taker.rule.help" :film="taker.rule.form === 'film'" :locale="here" :first="first"
      :set="set(taker.rule.key, taker.store.store)" :takers="[taker]" :only="taker.store.store" :asked="asked([taker.rule.key])" :save="save"
    />
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
.languages { margin-bottom: 0.8rem; }
.chip { border: 1px solid var(--line); background: none; color: inherit; border-radius: 1rem; padding: 0.2rem 0.8rem; }
.chip[aria-pressed='true'] { border-color: var(--accent); box-shadow: inset 0 0 0 1px var(--accent); font-weight: 600; }
.chip .soft { font-weight: 400; font-size: 0.85rem; }
.locale { width: 7rem; }
.many { margin-left: auto; }
.import { margin-bottom: 0.8rem; }
.import p { margin: 0; }
.icons { display: flex; flex-wrap: wrap; gap: 1.2rem; align-items: center; margin-bottom: 0.9rem; }
.icons figure { margin: 0; display: grid; justify-items: center; gap: 0.2rem; }
.icons img { width: 4.5rem; height: 4.5rem; object-fit: contain; border-radius: 0.8rem; }
.icons p { margin: 0; }
@media (max-width: 760px) { .many { margin-left: 0; } }
</style>
