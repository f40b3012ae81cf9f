<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { api, type App, type Build, type Consignment, type Facts, handOver, type Expiry, type Reservation, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import NextNumber from '../components/NextNumber.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import PushSheet from '../components/PushSheet.vue'
import RetentionCard from '../components/RetentionCard.vue'
import StandingAnswers from '../components/StandingAnswers.vue'
import { inAddress } from '../address'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { CONSIGNMENT_ON_ITS_WAY } from '../states'
import { percent, platformName, size } from '../telling'

const PAGE = 40
const SOON_DAYS = 45
const props = defineProps<{ app: string }>()
const path = { app: props.app }
const wish = inAddress<{ platform: string; find: string; order: 'newest' | 'oldest' | 'version' | 'number' }>({ platform: '', find: '', order: 'newest' })
const limit = ref(PAGE)
const { data, problem, load } = useLoading(async () => {
  const query = { platform: wish.platform || undefined, text: wish.find, order: wish.order, limit: Math.min(limit.value + 1, 500) }
  const [builds, newest, app, expiries, held] = await Promise.all([
    told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path, query } })),
    told<Build[]>(api.GET('/v1/apps/{app}/builds', { params: { path, query: { limit: 60 } } })),
    told<App>(api.GET('/v1/apps/{app}', { params: { path } })),
    told<Expiry[]>(api.GET('/v1/apps/{app}/expiries', { params: { path } })),
    told<Reservation[]>(api.GET('/v1/apps/{app}/reservations', { params: { path } })),
  ])
  return { builds: builds.slice(0, limit.value), more: builds.length > limit.value, newest, app, expiries, held }
})
useLive(load, (change) => change.app === props.app || change.app === null)
watch([() => wish, limit], () => void load(), { deep: true })

const doing = useDoing()
const input = ref<HTMLInputElement | null>(null)
const part = ref<{ name: string; share: number } | null>(null)
const arrived = ref<Facts[] | null>(null)
const sending = ref<Build | null>(null)
const answers = reactive<Record<string, Record<string, string>>>({})
const standing = reactive<Record<string, boolean>>({})

const heads = computed(() => {
  const found = new Map<string, Build>()
  for (const build of data.value?.newest ?? []) if (!found.has(build.platform)) found.set(build.platform, build)
  return [...found.values()]
})
const questions = computed(() => (data.value?.newest ?? []).flatMap((build) => build.consignments.filter((entry) => entry.possible.includes('answer')).map((entry) => ({ build, entry }))))
const soon = computed(() => (data.value?.expiries ?? []).filter((expiry) => new Date(expiry.until).getTime() - Date.now() < SOON_DAYS * 86_400_000))
const platforms = computed(() => Object.keys(data.value?.app.identifiers ?? {}))

async function take(event: Event): Promise<void> {
  const files = [...((event.target as HTMLInputElement).files ?? [])]
  if (!files.length) return
  arrived.value = null
  await doing.run(async () => {
    const found: Facts[] = []
    for (const file of files) {
      part.value = { name: file.name, share: 0 }
      const sha256 = await handOver(file, (now) => (part.value = { name: file.name, share: now }))
      found.push(await told<Facts>(api.GET('/v1/packages/{sha256}', { params: { path: { sha256 } } })))
    }
    arrived.value = found
  })
  part.value = null
  if (input.value) input.value.value = ''
}

function finished(): void {
  arrived.value = null
  sending.value = null
  void load()
}

function answer(entry: Consignment) {
  return doing.run(async () => {
    await told(api.POST('/v1/consignments/{consignment}/answers', { params: { path: { consignment: entry.id } }, body: { answers: answers[entry.id] ?? {}, standing: !refused(entry) && (standing[entry.id] ?? false), anyway: refused(entry) } }))
    await load()
  })
}

function choose(entry: Consignment, code: string, choice: string): void {
  answers[entry.id] = { ...answers[entry.id], [code]: choice }
}

const complete = (entry: Consignment) => entry.questions.every((question) => answers[entry.id]?.[question.code])
const refused = (entry: Consignment) => entry.questions.some((question) => question.refused_answers.includes(answers[entry.id]?.[question.code] ?? ''))
const open = (build: Build) => (data.value?.app.berths ?? []).some((berth) => berth.state === 'open' && berth.platform === build.platform && !build.consignments.some((entry) => entry.store === berth.store))
const telling = (build: Build) => !build.consignments.some((entry) => build.in_use.startsWith(entry.state)) && build.in_use
const icon = (build: Build) => build.packages.find((entry) => entry.icon?.media_type && !build.cleared)
</script>

<template>
  <AppHead title="Builds">
    <input ref="input" type="file" class="visually-hidden" accept=".apk,.aab,.ipa,.msix,.msixbundle" multiple tabindex="-1" aria-hidden="true" @change="take" />
    <BButton data-needs="hand-in" variant="primary" :disabled="doing.busy.value" @click="input?.click()">Hand in a build</BButton>
  </AppHead>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <div v-if="part !== null" class="card-plain arriving" role="status">
    <label for="arriving">{{ part.name }} is on its way to the desk: {{ percent(part.share) }}</label>
    <progress id="arriving" :value="part.share" max="1" />
  </div>
  <PushSheet v-if="arrived && data" :app="data.app" :facts="arrived" :build="null" @done="finished" @leave="arrived = null" />
  <PushSheet v-if="sending && data" :key="sending.id" :app="data.app" :facts="sending.packages" :build="sending.id" @done="finished" @leave="sending = null" />
  <form v-for="{ build, entry } in questions" :key="entry.id" class="card-plain question" @submit.prevent="answer(entry)">
    <h2>{{ entry.store_title }} holds {{ build.label }} and asks</h2>
    <p v-if="Object.keys(entry.answers).length" role="status">◌ Answered, not confirmed by the store yet. {{ entry.waiting_because }}</p>
    <template v-else>
      <fieldset v-for="question in entry.questions" :key="question.code">
        <legend>{{ question.text }}</legend>
        <p class="soft small-print">{{ question.help }}</p>
        <div class="row-gap">
          <label v-for="choice in question.choices" :key="choice" class="row-gap">
            <input type="radio" class="form-check-input" :name="entry.id + question.code" :value="choice" :checked="answers[entry.id]?.[question.code] === choice" @change="choose(entry, question.code, choice)" /> {{ choice }}<span v-if="question.refused_answers.includes(choice)" class="soft">◔ refused by {{ entry.store_title }}</span>
          </label>
        </div>
      </fieldset>
      <p v-if="refused(entry)" class="mind" role="status">{{ entry.store_title }} will refuse {{ build.label }} for this answer, and its number is used up then.</p>
      <label v-if="!refused(entry)" class="row-gap"><input v-model="standing[entry.id]" type="checkbox" class="form-check-input" /> Give the same answers automatically from now on</label>
      <BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value || !complete(entry)">{{ refused(entry) ? 'Answer anyway' : 'Answer' }}</BButton>
    </template>
  </form>
  <template v-if="data">
    <div v-if="heads.length" class="heads">
      <section v-for="build in heads" :key="build.id" class="card-plain head" :aria-label="`Newest for ${build.platform}`">
        <img v-if="icon(build)" :src="`/v1/packages/${icon(build)!.sha256}/icon`" alt="" width="44" height="44" />
        <div>
          <p class="soft small-print">Newest for {{ platformName(build.platform) }}</p>
          <h2><RouterLink :to="`/apps/${app}/builds/${build.id}`">{{ build.label }}</RouterLink></h2>
          <p v-for="entry in build.consignments" :key="entry.id">{{ entry.store_title }} <PhaseWord :phase="entry.state" /></p>
          <p v-if="!build.consignments.length" class="soft">at the desk only</p>
          <p v-if="telling(build)" class="soft small-print">{{ build.in_use }}</p>
        </div>
      </section>
      <section v-if="soon.length || data.held.length" class="card-plain head" aria-label="What to mind">
        <div>
          <template v-if="soon.length">
            <p class="soft small-print">Expires soon</p>
            <p v-for="expiry in soon.slice(0, 3)" :key="expiry.what + expiry.until" class="mind"><strong>◔ {{ expiry.what }}</strong> ends <Moment :at="expiry.until" />.</p>
            <RouterLink :to="`/apps/${app}/signing`">{{ soon.length > 3 ? `and ${soon.length - 3} more` : 'Signing' }}</RouterLink>
          </template>
          <template v-if="data.held.length">
            <p class="soft small-print">Numbers held</p>
            <p v-for="entry in data.held.slice(0, 3)" :key="entry.id"><strong>{{ entry.version }} ({{ entry.number }})</strong> {{ entry.label || 'without a label' }}</p>
          </template>
        </div>
      </section>
    </div>
    <form class="row-gap filters" role="search" @submit.prevent>
      <label class="row-gap">Find <input v-model.lazy="wish.find" type="search" class="form-control form-control-sm" placeholder="version, number, id" /></label>
      <label class="row-gap">Platform <select v-model="wish.platform" class="form-select form-select-sm"><option value="">all</option><option v-for="name in platforms" :key="name" :value="name">{{ platformName(name) }}</option></select></label>
      <label class="row-gap">Order <select v-model="wish.order" class="form-select form-select-sm"><option value="newest">newest first</option><option value="oldest">oldest first</option><option value="version">by version</option><option value="number">by number</option></select></label>
    </form>
    <div v-if="data.builds.length" class="card-plain scroll-x">
      <table class="table-plain">
        <thead><tr><th>Version</th><th>Platform</th><th>Entered</th><th>Needs</th><th>Size</th><th>Where it is</th><th><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody>
          <tr v-for="build in data.builds" :key="build.id">
            <td><strong><RouterLink :to="`/apps/${app}/builds/${build.id}`">{{ build.label }}</RouterLink></strong><br /><span class="mono soft">{{ build.id }}</span></td>
            <td>{{ platformName(build.platform) }}</td>
            <td><Moment :at="build.created_at" /></td>
            <td>{{ build.packages[0]?.lowest_platform ?? '–' }} or newer</td>
            <td>{{ size(build.size_bytes) }}<br /><span v-if="build.cleared" class="soft small-print">file cleared</span></td>
            <td>
              <div v-for="entry in build.consignments" :key="entry.id" class="where">
                {{ entry.store_title }} <PhaseWord :phase="entry.state" />
                <span v-if="entry.state === 'sending'">{{ percent(entry.sent_bytes / Math.max(entry.size_bytes, 1)) }}</span>
                <progress v-if="CONSIGNMENT_ON_ITS_WAY.includes(entry.state)" :aria-label="`${entry.state} at ${entry.store_title}`" />
                <p v-if="entry.reason" class="reason">{{ entry.reason }}</p>
                <p v-if="entry.waiting_because && entry.state !== 'held'" class="reason">Ordered, not confirmed: {{ entry.waiting_because }}</p>
              </div>
              <span v-if="!build.consignments.length" class="soft">at the desk only</span>
            </td>
            <td><BButton data-needs="hand-in" v-if="open(build)" size="sm" variant="outline-primary" @click="sending = build">Send on</BButton></td>
          </tr>
        </tbody>
      </table>
      <BButton v-if="data.more" variant="link" @click="limit += PAGE">More builds</BButton>
    </div>
    <p v-else-if="wish.find || wish.platform" class="soft">No build is like that.</p>
    <EmptyState v-else title="No builds yet">Hand in a build here, or from a build server: <code>tide build push FILE --app {{ app }} --wait</code></EmptyState>
    <NextNumber :app="app" :held="data.held" @done="load" />
    <StandingAnswers :app="data.app" />
    <RetentionCard v-if="data.newest.length" :app="app" @done="load" />
  </template>
</template>

<style scoped>
.arriving, .question { margin-bottom: 1rem; display: grid; gap: 0.5rem; }
.question { border-left: 4px solid var(--care); justify-items: start; }
.arriving progress { width: 100%; }
.heads { display: grid; gap: 1rem; grid-template-columns: repeat(auto-fit, minmax(min(100%, 17rem), 1fr)); margin-bottom: 1rem; align-items: start; }
.head { display: flex; gap: 0.8rem; align-items: flex-start; padding: 0.85rem 1.1rem; }
.head img { border-radius: 0.6rem; }
.head p { margin: 0; }
.head .mind { margin-bottom: 0.2rem; }
.filters { margin-bottom: 0.7rem; gap: 0.5rem 1.25rem; font-size: 0.9rem; }
.filters .form-control, .filters .form-select { width: auto; }
.where progress { margin-left: 0.6rem; width: 6rem; height: 0.5rem; }
.where { margin-bottom: 0.25rem; }
.reason { margin: 0.15rem 0 0; color: var(--soft); max-width: 26rem; }
legend { font-size: 1rem; margin: 0; }
fieldset p { margin: 0 0 0.35rem; }
</style>
