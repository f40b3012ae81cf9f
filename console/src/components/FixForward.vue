<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type Build, type Release, told } from '../api'
import { useDoing, useLoading } from '../loading'
import { LEG_LAUNCHED } from '../states'
import ProblemNote from './ProblemNote.vue'

/** A new build takes over: a release of a higher version with the same stores, ladders, conditions and notes. */
const props = defineProps<{ release: Release }>()
const { data: builds, load } = useLoading<Build[]>(() => told(api.GET('/v1/apps/{app}/builds', { params: { path: { app: props.release.app }, query: { limit: 100 } } })))
void load()
const doing = useDoing()
const router = useRouter()
const chosen = ref('')

const numbers = (version: string) => version.split('.').map(Number)
function above(one: string, other: string): boolean {
  const [a, b] = [numbers(one), numbers(other)]
  const at = [0, 1, 2].find((place) => (a[place] ?? 0) !== (b[place] ?? 0))
  return at !== undefined && (a[at] ?? 0) > (b[at] ?? 0)
}
const platforms = computed(() => new Set(props.release.legs.filter((leg) => LEG_LAUNCHED.includes(leg.phase)).map((leg) => leg.platform)))
/** The newest build of each platform, by the versions above this release's. */
const ways = computed(() => {
  const found = new Map<string, Map<string, Build>>()
  for (const build of builds.value ?? []) {
    if (!platforms.value.has(build.platform) || !above(build.version, props.release.version)) continue
    const known = found.get(build.version) ?? new Map<string, Build>()
    if (!known.has(build.platform)) known.set(build.platform, build)
    found.set(build.version, known)
  }
  return [...found].sort(([one], [other]) => (above(one, other) ? -1 : 1))
})

async function draft(): Promise<void> {
  const version = chosen.value || ways.value[0]![0]
  const ids = [...(ways.value.find(([one]) => one === version)?.[1].values() ?? [])].map((build) => build.id)
  const path = { app: props.release.app, version: props.release.version }
  const done = await doing.run(async () => void (await told(api.POST('/v1/apps/{app}/releases/{version}/fixes', { params: { path }, body: { builds: ids } }))), `${version} is drafted`)
  if (done) await router.push(`/apps/${props.release.app}/releases/${version}`)
}
</script>

<template>
  <section v-if="builds" class="card-plain fix" aria-labelledby="fix-forward">
    <h2 id="fix-forward">Fix it forward</h2>
    <form v-if="ways.length" class="row-gap" @submit.prevent="draft">
      <label class="row-gap">A release of the same stores, ladders, conditions and notes with
        <select v-model="chosen" class="form-select form-select-sm" :aria-label="'The version that takes over'">
          <option v-for="([version, of], at) in ways" :key="version" :value="at ? version : ''">{{ version }}: {{ [...of.values()].map((build) => build.label).join(', ') }}</option>
        </select>
      </label>
      <BButton data-needs="steer" type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value">Draft it</BButton>
      <span class="small-print soft">It takes the place of {{ release.version }} where it is launched. Those who have {{ release.version }} keep it until then.</span>
    </form>
    <p v-else class="soft">There is no build above {{ release.version }} yet. Push one, and it can take over from here. <RouterLink :to="`/apps/${release.app}/builds`">Builds</RouterLink></p>
    <ProblemNote :problem="doing.problem.value" />
  </section>
</template>

<style scoped>
.fix { margin-top: 1rem; display: grid; gap: 0.4rem; }
h2 { margin: 0; }
select { width: auto; }
p { margin: 0; }
</style>
