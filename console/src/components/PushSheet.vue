<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { api, type App, type Facts, type Finding, told } from '../api'
import { useDoing } from '../loading'
import FindingList from './FindingList.vue'
import ProblemNote from './ProblemNote.vue'

/** What each store would say, before a build is sent anywhere; sending is confirmed here. */
const props = defineProps<{ app: App; facts: Facts[]; build: string | null; there: string[] }>()
const emit = defineEmits<{ done: []; leave: [] }>()

const sheets = ref<Record<string, Finding[]>>({})
const chosen = ref<string[]>([])
const doing = useDoing()
const looking = ref(true)
const first = computed(() => props.facts.find((entry) => !entry.split) ?? props.facts[0]!)
const PLATFORMS: Record<string, string> = { apk: 'android', aab: 'android', ipa: 'ios', msix: 'desktop', msixbundle: 'desktop' }
const berths = computed(() => props.app.berths.filter((berth) => berth.state === 'open' && berth.platform === PLATFORMS[first.value.format] && !props.there.includes(berth.store)))
const blocked = (store: string) => (sheets.value[store] ?? []).some((finding) => finding.level === 'blocker')

onMounted(async () => {
  await doing.run(async () => {
    for (const berth of berths.value) {
      const sheet = await told(api.POST('/v1/apps/{app}/checks', { params: { path: { app: props.app.name } }, body: { store: berth.store, facts: props.facts } }))
      sheets.value = { ...sheets.value, [berth.store]: sheet.findings }
      if (!blocked(berth.store)) chosen.value.push(berth.store)
    }
  })
  looking.value = false
})

async function go(): Promise<void> {
  const sent = await doing.run(async () => {
    let id = props.build
    if (id === null) {
      const entered = await told(api.POST('/v1/apps/{app}/builds', { params: { path: { app: props.app.name } }, body: { packages: props.facts.map((entry) => entry.sha256) } }))
      id = entered.id
    }
    for (const store of chosen.value) await told(api.POST('/v1/builds/{build}/consignments', { params: { path: { build: id } }, body: { store } }))
  })
  if (sent) emit('done')
}
</script>

<template>
  <section class="card-plain sheet" aria-labelledby="sheet">
    <h2 id="sheet">{{ first.label ?? first.identifier }} {{ first.version }} ({{ first.number }}): what the stores will say</h2>
    <ProblemNote :problem="doing.problem.value" />
    <p v-if="looking" class="soft" role="status">Checking against every store's rules …</p>
    <p v-else-if="!berths.length" class="soft">No other store with an open berth takes this build. It stays at the desk.</p>
    <fieldset v-for="berth in berths" :key="berth.store">
      <legend><label class="row-gap"><input v-model="chosen" type="checkbox" class="form-check-input" :value="berth.store" :disabled="blocked(berth.store) || !sheets[berth.store]" /> {{ berth.store_title }}</label></legend>
      <FindingList v-if="sheets[berth.store]" :findings="sheets[berth.store]!" />
    </fieldset>
    <div class="row-gap">
      <BButton variant="primary" :disabled="doing.busy.value || looking || (build !== null && !chosen.length)" @click="go">{{ chosen.length ? `Send to ${berths.filter((berth) => chosen.includes(berth.store)).map((berth) => berth.store_title).join(' and ')}` : 'Keep it at the desk' }}</BButton>
      <BButton variant="link" @click="emit('leave')">Leave it</BButton>
      <span class="soft small-print">To tests and tracks only; a release is another step.</span>
    </div>
  </section>
</template>

<style scoped>
.sheet { display: grid; gap: 0.8rem; margin-bottom: 1rem; border-color: var(--accent); }
legend { font-size: 1rem; font-weight: 600; margin: 0 0 0.3rem; }
</style>
