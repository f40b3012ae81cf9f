<script setup lang="ts">
import { reactive, ref } from 'vue'

import { api, told } from '../api'
import { useDoing, useLoading } from '../loading'
import { CHECK_KINDS } from '../states'
import ProblemNote from './ProblemNote.vue'

/** What refusals have taught: looked at before every hand-in. A question is answered with yes, once for each release. */
const props = defineProps<{ app: string; version: string }>()
const emit = defineEmits<{ done: [] }>()

const path = { app: props.app }
const { data: checks, problem, load } = useLoading(() => told(api.GET('/v1/apps/{app}/standing-checks', { params: { path, query: { version: props.version } } })))
void load()
const doing = useDoing()
const ending = ref<string | null>(null)
const form = reactive({ reason: '' })

async function ended(work: () => Promise<unknown>, said: string): Promise<void> {
  if (!(await doing.run(async () => void (await work()), said))) return
  ending.value = null
  await load()
  emit('done')
}
const tick = (check: string) => ended(() => told(api.POST('/v1/apps/{app}/releases/{version}/standing-checks/{check}/tick', { params: { path: { ...path, version: props.version, check } } })), 'It is ticked for this release')
const end = (check: string) => ended(() => told(api.POST('/v1/apps/{app}/standing-checks/{check}/end', { params: { path: { ...path, check } }, body: { reason: form.reason } })), 'The check has ended')
</script>

<template>
  <ProblemNote :problem="problem" />
  <section v-if="checks?.length" class="card-plain checks" aria-labelledby="standing-checks">
    <h2 id="standing-checks">Checked before every hand-in</h2>
    <ul class="plain-list">
      <li v-for="one in checks" :key="one.id">
        <span class="sign" aria-hidden="true">{{ one.kind !== 'question' ? '⚙' : one.ticked ? '✓' : '◌' }}</span>
        <div>
          <strong>{{ one.text }}</strong> <span class="soft small-print">{{ CHECK_KINDS[one.kind] }}</span>
          <form v-if="ending === one.id" class="row-gap" @submit.prevent="end(one.id)">
            <label class="row-gap">Why it ends <input v-model="form.reason" class="form-control form-control-sm" maxlength="300" required /></label>
            <BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">End it</BButton><BButton size="sm" variant="link" @click="ending = null">Cancel</BButton>
          </form>
          <div v-else class="row-gap">
            <BButton data-needs="prepare" v-if="one.kind === 'question' && !one.ticked" size="sm" variant="outline-primary" :disabled="doing.busy.value" :aria-label="`Yes: ${one.text}`" @click="tick(one.id)">Yes, for {{ version }}</BButton>
            <span v-else-if="one.ticked" class="small-print">yes, for {{ version }}</span>
            <BButton data-needs="prepare" size="sm" variant="link" :aria-label="`End the check: ${one.text}`" @click="((ending = one.id), (form.reason = ''))">End it</BButton>
          </div>
        </div>
      </li>
    </ul>
    <ProblemNote :problem="doing.problem.value" />
  </section>
</template>

<style scoped>
.checks { margin-bottom: 1rem; display: grid; gap: 0.4rem; }
h2 { margin: 0; }
li { display: flex; gap: 0.6rem; padding: 0.35rem 0; }
.sign { width: 1.2em; flex: none; color: var(--accent); font-weight: 700; }
strong { font-weight: 600; overflow-wrap: anywhere; }
</style>
