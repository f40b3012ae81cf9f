<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, type App, told } from '../api'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import { percent, platformName } from '../telling'
import ProblemNote from './ProblemNote.vue'

/** One word that halts every rollout of an app, of a platform, or of both together; each store's answer as it comes in. */
const props = defineProps<{ app?: string; title?: string }>()
const open = ref(false)
const app = ref('')
const platform = ref('')
const completeToo = ref(false)
const reason = ref('')
const done = ref<components['schemas']['HaltsTold'] | null>(null)
const field = ref<HTMLTextAreaElement | null>(null)
const { busy, problem, run } = useDoing()
const { data: apps, load } = useLoading<App[]>(() => told(api.GET('/v1/apps')))
const chosen = computed(() => props.app ?? app.value)
const platforms = computed(() => [...new Set((apps.value ?? []).filter((one) => !chosen.value || one.name === chosen.value).flatMap((one) => one.berths.map((berth) => berth.platform)))].sort())
const reach = computed(() => {
  const of = props.title ?? apps.value?.find((one) => one.name === chosen.value)?.title
  const where = platform.value ? ` on ${platformName(platform.value)}` : ''
  return of ? `every rollout of ${of}${where}` : platform.value ? `every rollout of every app${where}` : ''
})

async function begin(): Promise<void> {
  app.value = platform.value = reason.value = ''
  completeToo.value = false
  done.value = problem.value = null
  open.value = true
  await load()
}
const halt = () => run(async () => {
  done.value = await told(api.POST('/v1/halts', { body: { reason: reason.value, app: chosen.value || null, platform: platform.value || null, complete_too: completeToo.value } }))
})
</script>

<template>
  <BButton data-needs="stop" size="sm" variant="outline-danger" @click="begin">{{ props.app ? 'Halt all of it' : 'Halt many' }}</BButton>
  <BModal v-model="open" :title="props.title ? `Halt all of ${props.title}` : 'Halt many rollouts'" title-tag="h2" no-footer no-animation aria-modal="true" @shown="field?.focus()">
    <form v-if="!done" class="stack" @submit.prevent="halt">
      <div class="fields">
        <label v-if="!props.app">App <select v-model="app" class="form-select form-select-sm"><option value="">every app</option><option v-for="one in apps ?? []" :key="one.name" :value="one.name">{{ one.title }}</option></select></label>
        <label>Platform <select v-model="platform" class="form-select form-select-sm"><option value="">{{ chosen ? 'all of them' : 'choose one, or an app' }}</option><option v-for="one in platforms" :key="one" :value="one">{{ platformName(one) }}</option></select></label>
      </div>
      <p v-if="reach">Halts <strong>{{ reach }}</strong>, at every store. Nobody new is offered these builds; those who have them keep them.</p>
      <label class="row-gap"><input v-model="completeToo" type="checkbox" class="form-check-input" /> Also what everybody is offered already</label>
      <ProblemNote :problem="problem" />
      <label>Why? It stands in the logbook.
        <textarea ref="field" v-model="reason" class="form-control" rows="2" maxlength="2000" required @keydown.ctrl.enter="reach && reason.trim() && halt()" />
      </label>
      <div class="row-gap"><BButton data-needs="stop" type="submit" variant="danger" :disabled="busy || !reach || !reason.trim()">{{ busy ? 'Ordering …' : 'Halt now' }}</BButton><BButton variant="link" @click="open = false">Cancel</BButton></div>
    </form>
    <div v-else role="status" class="stack">
      <ul class="plain-list">
        <li v-for="one in done.outcomes" :key="one.app + one.version + one.place"><RouterLink :to="`/apps/${one.app}/releases/${one.version}`">{{ one.app }} {{ one.version }}</RouterLink>, {{ one.place_title }}: {{ one.ordered ? `✓ a halt is ordered at ${percent(one.share)}` : `nothing was done. ${one.why_not}` }}</li>
        <li v-for="one in done.left" :key="one.app + one.version + one.place" class="soft">{{ one.app }} {{ one.version }}, {{ one.place_title }}: left alone; everybody is offered it already.</li>
      </ul>
      <p class="soft">Each release says what its stores answer.</p>
      <div><BButton variant="primary" @click="open = false">Done</BButton></div>
    </div>
  </BModal>
</template>

<style scoped>
label { display: grid; gap: 0.25rem; }
label.row-gap { display: flex; }
.fields { display: grid; grid-template-columns: repeat(auto-fit, minmax(11rem, 1fr)); gap: 0.7rem; }
li { padding: 0.35rem 0; border-top: 1px solid var(--line); }
li:first-child { border-top: 0; }
p { margin: 0; }
</style>
