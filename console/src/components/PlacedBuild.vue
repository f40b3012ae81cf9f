<script setup lang="ts">
import type { Placement } from '../api'
import { percent } from '../telling'
import Moment from './Moment.vue'
import PhaseWord from './PhaseWord.vue'
import TideStaff from './TideStaff.vue'

/** A build as it stands on a track: what, since when, for how many; what the store was seen to hold where that differs. */
defineProps<{ app: string; placed: Placement }>()
</script>

<template>
  <div class="placed">
    <TideStaff v-if="placed.release && placed.ladder.length > 1" small :stages="placed.ladder" :share="placed.share" :phase="placed.phase as never" :confirmed="placed.confirmed" />
    <div>
      <RouterLink v-if="placed.release" :to="`/apps/${app}/releases/${placed.release}`"><strong>{{ placed.build_label }}</strong></RouterLink>
      <RouterLink v-else :to="`/trials/${placed.trial}`"><strong>{{ placed.build_label }}</strong></RouterLink>
      <div><PhaseWord :phase="placed.phase" /> <template v-if="placed.release && placed.share && placed.share < 1">at {{ percent(placed.share) }}</template><span v-if="placed.cohort" class="soft"> {{ placed.cohort }}<template v-if="placed.people != null">, {{ placed.people }} seated</template></span></div>
      <div v-if="placed.since" class="soft small-print">since <Moment :at="placed.since" /></div>
      <div v-if="!placed.confirmed" class="small-print">◌ ordered, not confirmed<template v-if="placed.seen && placed.seen !== placed.phase">; last seen {{ placed.seen }}</template></div>
    </div>
  </div>
</template>

<style scoped>
.placed { display: flex; gap: 0.5rem; align-items: flex-start; min-width: 0; overflow-wrap: anywhere; }
</style>
