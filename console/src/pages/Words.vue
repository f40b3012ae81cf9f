<script setup lang="ts">
import { computed, ref } from 'vue'

import { GLOSSARY } from '../states'

const find = ref('')
const words = computed(() => Object.entries(GLOSSARY).filter(([word, said]) => `${word} ${said}`.toLowerCase().includes(find.value.trim().toLowerCase())))
</script>

<template>
  <div class="page-head"><h1>Words</h1><input v-model="find" type="search" class="form-control find" placeholder="Find a word" aria-label="Find a word" /></div>
  <p class="soft">What the words mean that are this product's own, and what each act on a rollout does.</p>
  <dl v-if="words.length" class="card-plain">
    <div v-for="[word, said] in words" :id="word.replaceAll(' ', '-')" :key="word"><dt>{{ word }}</dt><dd>{{ said }}</dd></div>
  </dl>
  <p v-else class="soft" role="status">No word fits.</p>
</template>

<style scoped>
.find { width: 18rem; max-width: 100%; }
dl > div { display: grid; grid-template-columns: 10rem minmax(0, 1fr); gap: 0.3rem 1rem; padding: 0.5rem 0; border-top: 1px solid var(--line); }
dl > div:first-child { border-top: 0; }
dt { font-weight: 650; }
dd { margin: 0; }
@media (max-width: 620px) { dl > div { grid-template-columns: minmax(0, 1fr); } }
</style>
