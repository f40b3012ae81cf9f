<script setup lang="ts">
import { ref } from 'vue'

import { api, type Line, told } from '../api'
import { useLive } from '../live'
import { useLoading } from '../loading'
import { changes } from '../telling'
import Moment from './Moment.vue'

/** Who did what with one thing, when and why: the logbook's lines about it, the newest first. */
const props = defineProps<{ app: string; about: string }>()
const FEW = 6
const most = ref(FEW)
const { data: lines, load } = useLoading<Line[]>(() => told(api.GET('/v1/logbook', { params: { query: { app: props.app, find: props.about, limit: most.value + 1 } } })))
useLive(load, (change) => change.app === props.app)

async function further(): Promise<void> {
  most.value = most.value === FEW ? 60 : 500
  await load()
}
</script>

<template>
  <section v-if="lines?.length" class="card-plain history" aria-labelledby="history">
    <h2 id="history">History</h2>
    <ol class="plain-list">
      <li v-for="line in lines.slice(0, most)" :key="line.id">
        <span class="when"><Moment :at="line.at" /></span>
        <span><strong>{{ line.act }}</strong> by {{ line.who }} <span class="soft">{{ line.subject.replace(about, '').trim() }}</span>
          <span v-if="changes(line).length" class="soft small-print"> · {{ changes(line).join(', ') }}</span>
          <q v-if="line.reason" class="reason">{{ line.reason }}</q></span>
      </li>
    </ol>
    <div class="row-gap"><BButton v-if="lines.length > most" size="sm" variant="link" @click="further">Earlier</BButton><RouterLink class="small-print" :to="{ path: '/logbook', query: { app, find: about } }">In the logbook</RouterLink></div>
  </section>
</template>

<style scoped>
.history { margin-top: 1rem; display: grid; gap: 0.5rem; }
li { display: grid; grid-template-columns: 13rem 1fr; gap: 0.2rem 1rem; padding: 0.35rem 0; border-top: 1px solid var(--line); }
li:first-child { border-top: 0; }
.when { color: var(--soft); font-size: 0.9rem; }
.reason { display: block; color: var(--ink); }
@media (max-width: 620px) { li { grid-template-columns: minmax(0, 1fr); } }
</style>
