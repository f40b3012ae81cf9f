<script setup lang="ts">
import { computed } from 'vue'

import { messages, rest, showing, takeBack } from '../messages'

const message = computed(() => messages.value.find((entry) => entry.id === showing.value))
</script>

<template>
  <div class="place" role="status" @mouseenter="rest(true)" @mouseleave="rest(false)" @focusin="rest(true)" @focusout="rest(false)">
    <p v-if="message" class="toast-plain">
      <span>{{ message.well ? '✓' : '✕' }} {{ message.said }}</span>
      <BButton v-if="message.undo" size="sm" variant="outline-primary" @click="takeBack(message)">Undo</BButton>
      <RouterLink to="/messages">All messages</RouterLink>
      <button type="button" class="close" aria-label="Close this message" @click="showing = null">✕</button>
    </p>
  </div>
</template>

<style scoped>
.place { position: fixed; inset: auto 1rem 1rem auto; z-index: 20; max-width: min(34rem, calc(100vw - 2rem)); }
.toast-plain { display: flex; gap: 0.3rem 0.9rem; align-items: center; margin: 0; padding: 0.7rem 1rem; background: var(--card); color: var(--ink); border: 1px solid var(--edge); border-left: 5px solid var(--accent); border-radius: 0.5rem; box-shadow: 0 6px 24px rgb(0 0 0 / 18%); overflow-wrap: anywhere; }
.toast-plain span { flex: 1; }
.toast-plain a { white-space: nowrap; }
.close { background: none; border: 0; color: var(--soft); padding: 0.2rem 0.4rem; }
</style>
