<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { api, type App, type Facts, type Finding, type Sheet, told } from '../api'
import { useDoing } from '../loading'
import FindingList from './FindingList.vue'
import ProblemNote from './ProblemNote.vue'

/** What each store would say, before a build is sent anywhere; sending is confirmed here. */
const props = defineProps<{ app: App; facts: Facts[]; build: string | null }>()
const emit = defineEmits<{ done: []; leave: [] }>()

const sheets = ref<Sheet[]>([])
const chosen = ref<string[]>([])
const doing = useDoing()
const looking = ref(true)
const first = computed(() => props.facts.find((entry) => !entry.split) ?? props.facts[0]!)
const asked = computed(() => sheets.value.filter((sheet) => !sheet.there))
const blocked = (sheet: Sheet) => sheet.findings.some((finding) => finding.level === 'blocker')
const key = (finding: Finding) => JSON.stringify([finding.code, finding.level, finding.place, finding.detail, finding.remedy])
/** What several stores would say in the same words: once, with their names. */
const shared = computed(() => {
  const by = new Map<string, { finding: Finding; stores: string[] }>()
  for (const sheet of asked.value)
    for (const finding of sheet.findings) {
      const known = by.get(key(finding)) ?? { finding, stores: [] }
      by.set(key(finding), { finding, stores: [...known.stores, sheet.store_title] })
    }
  return [...by.values()].filter((entry) => entry.stores.length > 1)
})
/** The findings of the same stores stand together, under their names once. */
const groups = computed(() => {
  const found = new Map<string, Finding[]>()
  for (const entry of shared.value) found.set(entry.stores.join(', '), [...(found.get(entry.stores.join(', ')) ?? []), entry.finding])
  return [...found]
})
const own = (sheet: Sheet) => sheet.findings.filter((finding) => !shared.value.some((entry) => key(entry.finding) === key(finding)))
const clear = (sheet: Sheet) => (sheet.findings.length ? 'Nothing else.' : undefined)
const path = { app: props.app.name }

onMounted(async () => {
  if (props.app.berths.some((berth) => berth.state === 'open')) {
    await doing.run(async () => {
      sheets.value = await told(api.POST('/v1/apps/{app}/checks', { params: { path }, body: { stores: [], facts: props.facts } }))
      chosen.value = asked.value.filter((sheet) => !blocked(sheet)).map((sheet) => sheet.store)
    })
  }
  looking.value = false
})

async function go(): Promise<void> {
  const packages = props.facts.map((entry) => entry.sha256)
  const done = await doing.run(async () => {
    if (!chosen.value.length) await told(api.POST('/v1/apps/{app}/builds', { params: { path }, body: { packages } }))
    else {
      const which = props.build === null ? { packages, build: null } : { packages: [], build: props.build }
      await told(api.POST('/v1/apps/{app}/pushes', { params: { path }, body: { ...which, stores: chosen.value } }))
    }
  })
  if (done) emit('done')
}
</script>

<template>
  <section class="card-plain sheet" aria-labelledby="sheet">
    <h2 id="sheet">{{ first.label ?? first.identifier }} {{ first.version }} ({{ first.number }}): what the stores will say</h2>
    <ProblemNote :problem="doing.problem.value" />
    <p v-if="looking" class="soft" role="status">Checking against every store's rules …</p>
    <p v-else-if="!asked.length && !doing.problem.value" class="soft">No other store with an open berth takes this build. It stays at the desk.</p>
    <div v-for="[stores, findings] in groups" :key="stores"><p class="stores">{{ stores }}</p><FindingList :findings="findings" /></div>
    <fieldset v-for="sheet in asked" :key="sheet.store">
      <legend><label class="row-gap"><input v-model="chosen" type="checkbox" class="form-check-input" :value="sheet.store" :disabled="blocked(sheet)" /> {{ sheet.store_title }}</label></legend>
      <FindingList :findings="own(sheet)" :clear="clear(sheet)" />
    </fieldset>
    <div class="row-gap">
      <BButton data-needs="hand-in" variant="primary" :disabled="doing.busy.value || looking || (build !== null && !chosen.length)" @click="go">{{ chosen.length ? `Send to ${asked.filter((sheet) => chosen.includes(sheet.store)).map((sheet) => sheet.store_title).join(' and ')}` : 'Keep it at the desk' }}</BButton>
      <BButton variant="link" @click="emit('leave')">Cancel</BButton>
      <span class="soft small-print">To tests and tracks only; a release is another step.</span>
    </div>
  </section>
</template>

<style scoped>
.sheet { display: grid; gap: 0.8rem; margin-bottom: 1rem; border-color: var(--accent); }
legend { font-size: 1rem; font-weight: 600; margin: 0 0 0.3rem; }
</style>
