<script setup lang="ts">
import { nextTick, ref } from 'vue'

/** An act that cannot be undone: the first press says what it means, the second does it. */
defineProps<{ said: string; consequence: string; sure: string; disabled?: boolean }>()
const emit = defineEmits<{ do: [] }>()
const asking = ref(false)
const first = ref<{ $el: HTMLElement }>()
const second = ref<{ $el: HTMLElement }>()

async function ask(on: boolean): Promise<void> {
  asking.value = on
  await nextTick()
  ;(on ? second.value : first.value)?.$el.focus()
}

function act(): void {
  asking.value = false
  emit('do')
}
</script>

<template>
  <BButton v-if="!asking" ref="first" size="sm" variant="link" :disabled="disabled" @click="ask(true)">{{ said }}</BButton>
  <span v-else class="row-gap asking" role="group" :aria-label="said" @keydown.esc="ask(false)">
    <span role="status">{{ consequence }}</span>
    <BButton size="sm" variant="danger" @click="act">{{ sure }}</BButton>
    <BButton ref="second" size="sm" variant="link" @click="ask(false)">Cancel</BButton>
  </span>
</template>

<style scoped>
.asking { background: var(--care-soft); border-radius: 0.5rem; padding: 0.3rem 0.6rem; font-size: 0.9rem; }
</style>
