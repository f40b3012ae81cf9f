<script setup lang="ts">
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import { messages, takeBack } from '../messages'
</script>

<template>
  <div class="page-head"><h1>Messages</h1></div>
  <p class="soft">What you did in this browser since you opened it. Everything that anybody did stands in the <RouterLink to="/logbook">logbook</RouterLink>.</p>
  <div v-if="messages.length" class="card-plain"><ul class="plain-list">
    <li v-for="message in messages" :key="message.id"><span class="soft small-print"><Moment :at="message.at" /></span><span>{{ message.well ? '' : '✕ ' }}{{ message.said }}</span><BButton v-if="message.undo" size="sm" variant="outline-primary" @click="takeBack(message)">Undo</BButton></li>
  </ul></div>
  <EmptyState v-else title="Nothing yet">Each act that was done is told here, and what can be undone at once has a button.</EmptyState>
</template>

<style scoped>
li { display: flex; flex-wrap: wrap; gap: 0.2rem 1rem; align-items: baseline; padding: 0.4rem 0; border-top: 1px solid var(--line); }
li:first-child { border-top: 0; }
</style>
