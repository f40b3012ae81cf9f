<script setup lang="ts">
import { ref } from 'vue'

import { api, told } from '../api'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { LIMITS } from '../states'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

/** What waits for a second person about one release: agreed to, or dropped. */
const props = defineProps<{ app: string; version: string }>()
const { data, load } = useLoading(async () => (await told(api.GET('/v1/proposals'))).filter((one) => one.app === props.app && one.version === props.version))
useLive(load, (change) => change.app === props.app)
const doing = useDoing()
const dropping = ref<string | null>(null)
const why = ref('')
const at = (proposal: string) => ({ params: { path: { proposal } } })
const agree = (id: string, said: string) => doing.run(async () => {
  await told(api.POST('/v1/proposals/{proposal}/agreement', at(id)))
  await load()
}, `Agreed: ${said}`)
async function drop(id: string): Promise<void> {
  const done = await doing.run(async () => {
    await told(api.POST('/v1/proposals/{proposal}/drop', { ...at(id), body: { reason: why.value } }))
    await load()
  }, 'Dropped; it is not done')
  if (done) dropping.value = null
}
</script>

<template>
  <section v-if="data?.length" class="card-plain proposals" aria-labelledby="proposals">
    <h2 id="proposals">Waits for a second person</h2>
    <ProblemNote :problem="doing.problem.value" />
    <div v-for="one in data" :key="one.id" class="row-gap between">
      <span><strong>{{ one.said }}</strong> <span class="soft">asked by {{ one.mine ? 'you' : one.asked_by }} <Moment :at="one.asked_at" />; until <Moment :at="one.until" /></span></span>
      <form v-if="dropping === one.id" class="row-gap" @submit.prevent="drop(one.id)"><label class="row-gap">Why <input v-model="why" class="form-control form-control-sm" required :maxlength="LIMITS.line" /></label><BButton type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Drop it</BButton><BButton size="sm" variant="link" @click="dropping = null">Cancel</BButton></form>
      <span v-else class="row-gap" data-needs="steer">
        <BButton v-if="!one.mine" size="sm" variant="primary" :disabled="doing.busy.value" @click="agree(one.id, one.said)">Agree</BButton>
        <span v-else class="soft">Someone else has to agree.</span>
        <BButton size="sm" variant="link" @click="((dropping = one.id), (why = ''))">Drop it</BButton>
      </span>
    </div>
  </section>
</template>

<style scoped>
.proposals { display: grid; gap: 0.6rem; border-color: var(--accent); margin-bottom: 1rem; }
.between { justify-content: space-between; }
</style>
