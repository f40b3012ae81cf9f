<script setup lang="ts">
import { ref } from 'vue'

import { api, type Build, type Leg, type Release, told } from '../api'
import { useDoing, useLoading } from '../loading'
import { LADDER_WRITTEN, LEG_PART_WAY, LIMITS } from '../states'
import { percent } from '../telling'
import LaunchConditions from './LaunchConditions.vue'
import ProblemNote from './ProblemNote.vue'

/** What may still be changed of a leg before its launch: its build, its ladder, what its launch waits for. */
const props = defineProps<{ release: Release; leg: Leg; builds: Build[] }>()
const emit = defineEmits<{ done: [] }>()

/** On its way up, only the stages that are still to come may be changed. */
const halfWay = LEG_PART_WAY.includes(props.leg.phase)
const build = ref(props.leg.build)
const written = props.leg.ladder_text.split(',')
const before = written.filter((_, at) => !halfWay || props.leg.ladder[at]!.share > props.leg.share).join(',')
const ladder = ref(before)
/** What is left as it is stays under its name. */
const changedLadder = () => (props.leg.ladder_dictated || ladder.value === before ? null : ladder.value)
const { data: named, load: loadNamed } = useLoading(() => told(api.GET('/v1/ladders')))
void loadNamed()
const conditions = ref(props.leg.conditions.map((stand) => stand.condition))
const { busy, problem, run } = useDoing()

async function save(): Promise<void> {
  const done = await run(() =>
    told(
      api.PATCH('/v1/apps/{app}/releases/{version}/legs/{store}', {
        params: { path: { app: props.release.app, version: props.release.version, store: props.leg.place }, header: { 'If-Match': `"${props.release.revision}"` } },
        body: halfWay ? { ladder: changedLadder() } : {
          build: build.value === props.leg.build ? null : build.value,
          ladder: changedLadder(),
          conditions: conditions.value,
        },
      }),
    ),
  )
  if (done) emit('done')
}
</script>

<template>
  <form class="settings" @submit.prevent="save">
    <label v-if="!halfWay">Build
      <select v-model="build" class="form-select form-select-sm">
        <option v-for="known in builds" :key="known.id" :value="known.id">{{ known.label }} · {{ known.id }}</option>
      </select>
    </label>
    <label v-if="!leg.ladder_dictated">{{ halfWay ? `The stages above ${percent(leg.share)}` : 'Ladder' }} <span class="soft small-print">a named one, or {{ LADDER_WRITTEN }}</span>
      <input v-model="ladder" class="form-control form-control-sm" list="named-ladders" :maxlength="LIMITS.ladderText" required />
      <datalist id="named-ladders"><option v-for="one in named ?? []" :key="one.name" :value="one.name">{{ one.told }}</option></datalist>
    </label>
    <LaunchConditions v-if="!halfWay" v-model="conditions" :release="release" :leg="leg" />
    <ProblemNote :problem="problem" />
    <BButton data-needs="steer" type="submit" size="sm" variant="outline-primary" :disabled="busy">Save</BButton>
  </form>
</template>

<style scoped>
.settings { display: grid; gap: 0.6rem; justify-items: start; }
label { display: grid; gap: 0.2rem; font-size: 0.9rem; width: 100%; }
</style>
