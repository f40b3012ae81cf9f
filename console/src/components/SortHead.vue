<script setup lang="ts">
import { computed } from 'vue'

/** A column's head by which the table is sorted: once upwards, once more downwards. `first` is the way of the first press. */
const props = defineProps<{ by: string; first?: 'up' | 'down' }>()
const order = defineModel<string>({ required: true })

const way = computed(() => (order.value === props.by ? 'ascending' : order.value === `-${props.by}` ? 'descending' : 'none'))
function press(): void {
  const falls = way.value === 'none' ? props.first === 'down' : way.value === 'ascending'
  order.value = falls ? `-${props.by}` : props.by
}
</script>

<template>
  <th scope="col" :aria-sort="way"><button type="button" @click="press"><slot /> <span aria-hidden="true">{{ way === 'ascending' ? '▲' : way === 'descending' ? '▼' : '↕' }}</span></button></th>
</template>

<style scoped>
button { background: none; border: 0; padding: 0; font: inherit; color: inherit; white-space: nowrap; }
th[aria-sort='none'] span { opacity: 0.55; }
</style>
