<script setup lang="ts">
import { computed, ref, useId } from 'vue'

import { GLOSSARY } from '../states'

/** One of our own words, explained where it is met: a press, or Enter, unfolds what it means. */
const props = defineProps<{ word: string; said?: string }>()
const open = ref(false)
const id = useId()
function leave(event: FocusEvent): void {
  if (!(event.currentTarget as HTMLElement).contains(event.relatedTarget as Node | null)) open.value = false
}
const meaning = computed(() => GLOSSARY[props.word])
</script>

<template>
  <span class="explained" @keydown.esc="open = false" @focusout="leave"><button type="button" :aria-expanded="open" :aria-controls="id" :title="meaning" @click="open = !open">{{ said ?? word }}</button><span v-if="open" :id="id" class="meaning" role="note">{{ meaning }} <RouterLink to="/words">All words</RouterLink></span></span>
</template>

<style scoped>
.explained { position: relative; display: inline-block; }
button { background: none; border: 0; padding: 0; font: inherit; color: inherit; text-decoration: underline dotted; text-underline-offset: 0.2em; cursor: help; }
.meaning { position: absolute; z-index: 10; top: calc(100% + 0.3rem); left: 0; width: max-content; max-width: min(22rem, 80vw); padding: 0.6rem 0.8rem; background: var(--card); color: var(--ink); border: 1px solid var(--edge); border-radius: 0.5rem; box-shadow: 0 6px 24px rgb(0 0 0 / 18%); font-size: 0.9rem; font-weight: 400; letter-spacing: 0; text-align: left; white-space: normal; }
</style>
