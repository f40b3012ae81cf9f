<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Placement, TrackCell } from '../api'
import { audienceOf } from '../tracking'
import PlacedBuild from './PlacedBuild.vue'

/** One track of one store: what its people have, what comes next, and where each build may move. */
const props = defineProps<{ app: string; store: string; cell: TrackCell; targets: TrackCell[]; dragged: boolean }>()
const emit = defineEmits<{ move: [placed: Placement, to: string]; lift: [placed: Placement | null]; drop: [] }>()

const over = ref(false)
const whom = computed(() => audienceOf(props.cell))
const others = computed(() => props.targets.filter((target) => target.key !== props.cell.key))

const moving = ref('')
const keyOf = (placed: Placement) => placed.build + (placed.trial ?? '')

function lift(placed: Placement, event: DragEvent): void {
  event.dataTransfer?.setData('text/plain', placed.build_label)
  emit('lift', placed)
}
</script>

<template>
  <section class="cell" :class="{ over: over && dragged, open: dragged }" :aria-label="`${cell.title} of ${store}`" @dragover="dragged && $event.preventDefault()" @dragenter="over = true" @dragleave.self="over = false" @drop.prevent="(over = false), emit('drop')">
    <header>
      <RouterLink :to="`/apps/${app}/tracks/${cell.at}`"><strong>{{ cell.title }}</strong></RouterLink>
      <div class="soft small-print">{{ whom }}</div>
    </header>
    <ul v-if="cell.holds.length" class="plain-list">
      <li v-for="placed in cell.holds" :key="keyOf(placed)" draggable="true" @dragstart="lift(placed, $event)" @dragend="emit('lift', null)">
        <PlacedBuild :app="app" :placed="placed" />
        <div v-if="placed.phase !== 'halted' && others.length" @keydown.esc="moving = ''">
          <BButton data-needs="steer" size="sm" variant="outline-primary" :aria-expanded="moving === keyOf(placed)" :aria-label="`Move ${placed.build_label} from ${cell.title} of ${store}`" @click="moving = moving === keyOf(placed) ? '' : keyOf(placed)">Move …</BButton>
          <ul v-if="moving === keyOf(placed)" class="plain-list to" :aria-label="`Where to move ${placed.build_label}`">
            <li v-for="target in others" :key="target.key"><BButton data-needs="steer" size="sm" variant="link" @click="(moving = ''), emit('move', placed, target.at)">to {{ target.title }}{{ target.key === cell.next ? ' (next)' : '' }}</BButton></li>
          </ul>
        </div>
      </li>
    </ul>
    <p v-else class="soft small-print">holds nothing</p>
    <div v-if="cell.coming.length" class="coming">
      <div class="soft small-print">comes next</div>
      <PlacedBuild v-for="placed in cell.coming" :key="keyOf(placed)" :app="app" :placed="placed" />
    </div>
    <p v-if="cell.trouble" class="small-print alarm">✕ {{ cell.trouble }}</p>
  </section>
</template>

<style scoped>
.cell { border: 1px solid var(--line); border-radius: 0.6rem; padding: 0.7rem 0.8rem; display: grid; gap: 0.5rem; align-content: start; min-width: 0; background: var(--card); }
.cell.open { border-style: dashed; border-color: var(--edge); }
.cell.over { border-color: var(--accent); outline: 2px solid var(--accent); }
li { display: grid; gap: 0.35rem; }
li + li { border-top: 1px solid var(--line); margin-top: 0.5rem; padding-top: 0.5rem; }
li[draggable] { cursor: grab; }
.to { padding: 0.2rem 0 0 0.3rem; }
.to li { border: 0; margin: 0; padding: 0; }
.coming { border-top: 1px dashed var(--edge); padding-top: 0.45rem; display: grid; gap: 0.35rem; }
p { margin: 0; }
.alarm { color: var(--alarm); }
</style>
