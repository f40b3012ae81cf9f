<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'

import { type Act, api, type Leg, type Release, told } from '../api'
import { useDoing } from '../loading'
import { tell } from '../messages'
import { percent } from '../telling'
import ProblemNote from './ProblemNote.vue'

/** One act on a rollout: what it will mean at each store, the reason, then each store's answer as it comes in. */
const props = defineProps<{ release: Release; act: Act | null; store: string | null }>()
const emit = defineEmits<{ close: []; done: [] }>()

const WORDS: Record<Act, string> = { launch: 'Launch', advance: 'Advance', pause: 'Pause', resume: 'Resume', halt: 'Halt', finish: 'Finish', withdraw: 'Withdraw', supersede: 'Supersede' }
const reason = ref('')
const ordered = ref<string[] | null>(null)
const taken = ref<string[]>([])
const field = ref<HTMLTextAreaElement | null>(null)
const { busy, problem, run } = useDoing()

const open = computed({ get: () => props.act !== null, set: (on) => !on && emit('close') })
const legs = computed(() => props.release.legs.filter((leg) => props.store === null || leg.place === props.store))
const word = computed(() => (props.act ? WORDS[props.act] : ''))
const grave = computed(() => props.act === 'halt' || props.act === 'withdraw')
const where = computed(() => (props.store ? legs.value[0]?.place_title : legs.value.length > 1 ? 'every store where it is possible' : legs.value[0]?.place_title))

watch(
  () => props.act,
  async (act) => {
    reason.value = ''
    ordered.value = null
    problem.value = null
    if (act) await nextTick()
  },
)

function option(leg: Leg) {
  return leg.acts.find((known) => known.act === props.act)
}

async function go(): Promise<void> {
  const act = props.act
  if (!act) return
  await run(async () => {
    const done = await told(
      api.POST('/v1/apps/{app}/releases/{version}/steering', {
        params: { path: { app: props.release.app, version: props.release.version } },
        body: { act, reason: reason.value, store: props.store },
      }),
    )
    ordered.value = done.outcomes.filter((outcome) => outcome.ordered).map((outcome) => outcome.place)
    taken.value = done.outcomes.filter((outcome) => outcome.ordered && outcome.order === null).map((outcome) => outcome.place)
    emit('done')
    if (ordered.value.length) tell(`${word.value} of ${props.release.app_title} ${props.release.version} is ordered at ${ordered.value.join(', ')}`)
  })
}

/** A store's answer: its newest order, since acts of one leg go one after the other. */
function answer(leg: Leg): { mark: string; said: string } {
  if (taken.value.includes(leg.place)) return { mark: '✓', said: `taken as wanted: ${leg.phase} at ${percent(leg.share)}; nothing had to be sent` }
  const newest = leg.orders[0]
  if (!newest) return { mark: '◌', said: 'ordered' }
  if (newest.state === 'confirmed') return { mark: '✓', said: `confirmed: ${leg.phase} at ${percent(leg.share)}` }
  if (newest.state === 'refused') return { mark: '✕', said: `refused: ${newest.trouble ?? ''}` }
  if (leg.step) return { mark: '☞', said: 'ordered; a step waits for a person to do it there (see Steps).' }
  return { mark: '◌', said: newest.trouble ? `ordered, not confirmed: ${newest.trouble} It is tried again until it answers.` : 'ordered, waiting for the answer …' }
}
</script>

<template>
  <BModal v-model="open" :title="`${word} ${release.app_title} ${release.version}`" title-tag="h2" no-footer no-animation aria-modal="true" @shown="field?.focus()">
    <form v-if="ordered === null" @submit.prevent="go">
      <p class="soft">At {{ where }}:</p>
      <ul class="plain-list stores">
        <li v-for="leg in legs" :key="leg.place" :class="{ out: !option(leg)?.possible }">
          <strong>{{ leg.place_title }}</strong>
          <span>{{ option(leg)?.possible ? option(leg)?.consequence : `Nothing happens here. ${option(leg)?.why_not}` }}</span>
        </li>
      </ul>
      <ProblemNote :problem="problem" />
      <label for="reason" class="form-label">Why? It stands in the logbook.</label>
      <textarea id="reason" ref="field" v-model="reason" class="form-control" rows="2" required @keydown.ctrl.enter="reason.trim() && go()" />
      <div class="row-gap foot">
        <BButton type="submit" :variant="grave ? 'danger' : 'primary'" :disabled="busy || !reason.trim()">{{ busy ? 'Ordering …' : `${word} now` }}</BButton>
        <BButton variant="link" @click="emit('close')">Cancel</BButton>
      </div>
    </form>
    <div v-else role="status">
      <p class="soft">Ordered. What the stores say:</p>
      <ul class="plain-list stores">
        <li v-for="leg in legs" :key="leg.place">
          <strong>{{ leg.place_title }}</strong>
          <span v-if="ordered.includes(leg.place)"><span aria-hidden="true">{{ answer(leg).mark }}</span> {{ answer(leg).said }}</span>
          <span v-else class="soft">– nothing was ordered here</span>
        </li>
      </ul>
      <div class="foot"><BButton variant="primary" @click="emit('close')">Done</BButton></div>
    </div>
  </BModal>
</template>

<style scoped>
.stores li { display: grid; gap: 0.15rem; padding: 0.55rem 0; border-top: 1px solid var(--line); }
.stores li:first-child { border-top: 0; }
.out span { color: var(--soft); }
.foot { margin-top: 1rem; }
p { margin-bottom: 0.35rem; }
label { margin-top: 0.75rem; }
</style>
