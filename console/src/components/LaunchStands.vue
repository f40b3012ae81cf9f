<script setup lang="ts">
import { computed } from 'vue'

import type { Leg } from '../api'
import Moment from './Moment.vue'

/** What the launch of a leg waits for: each condition, whether it holds, since when, and what is missing. */
const props = defineProps<{ leg: Leg }>()
const missing = computed(() => new Set(props.leg.conditions.map((stand) => stand.missing)))
/** Freezes and the store that leads are no conditions of the leg; they hold it all the same. */
const besides = computed(() => props.leg.waits_for.filter((said) => !missing.value.has(said)))
</script>

<template>
  <div v-if="leg.conditions.length || besides.length || leg.launches_at" class="launch">
    <h3>Before it launches</h3>
    <ul class="plain-list">
      <li v-for="stand in leg.conditions" :key="stand.written">
        <span class="sign" :class="{ holds: stand.holds }" aria-hidden="true">{{ stand.holds ? '✓' : '◌' }}</span>
        <span>
          <template v-if="stand.holds"><span class="visually-hidden">Holds: </span>{{ stand.told }}<span v-if="stand.since" class="soft small-print"> since <Moment :at="stand.since" /></span></template>
          <template v-else-if="stand.alternatives.length">Waits for one of these:
            <ul><li v-for="one in stand.alternatives" :key="one.told">{{ one.missing || one.told }}</li></ul>
          </template>
          <template v-else>Waits for {{ stand.missing }}</template>
        </span>
      </li>
      <li v-for="said in besides" :key="said"><span class="sign" aria-hidden="true">◌</span><span>Waits for {{ said }}</span></li>
    </ul>
    <p v-if="leg.go_aheads.length" class="small-print soft">Go-ahead by <template v-for="(one, at) in leg.go_aheads" :key="one.person">{{ at ? ', ' : '' }}{{ one.who }} <Moment :at="one.given_at" /></template></p>
    <p v-if="leg.launches_at" class="comes"><strong>Launches <Moment :at="leg.launches_at" /></strong>, unless it is stopped.</p>
  </div>
</template>

<style scoped>
.launch { display: grid; gap: 0.3rem; }
h3 { font-size: 0.95rem; margin: 0; }
li { display: flex; gap: 0.5rem; align-items: baseline; padding: 0.15rem 0; }
li ul { margin: 0; padding-left: 1.1rem; }
li ul li { display: list-item; padding: 0; }
.sign { color: var(--care); font-weight: 700; width: 1.1em; flex: none; }
.sign.holds { color: var(--accent); }
p { margin: 0; }
</style>
