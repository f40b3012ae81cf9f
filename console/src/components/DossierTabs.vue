<script setup lang="ts">
/** The parts of a dossier: what is written, shown, answered and sold. */
defineProps<{ app: string }>()
</script>

<template>
  <nav class="parts" aria-label="Parts of the dossier">
    <RouterLink :to="`/apps/${app}/dossier`" exact-active-class="here">Texts</RouterLink>
    <RouterLink :to="`/apps/${app}/dossier/pictures`" exact-active-class="here">Pictures</RouterLink>
    <RouterLink :to="`/apps/${app}/dossier/questions`" exact-active-class="here">Questions</RouterLink>
    <RouterLink :to="`/apps/${app}/dossier/goods`" exact-active-class="here">Goods</RouterLink>
  </nav>
</template>

<style scoped>
.parts { display: flex; flex-wrap: wrap; gap: 0 1.2rem; border-bottom: 1px solid var(--line); margin-bottom: 1rem; }
.parts a { padding: 0.35rem 0.2rem; text-decoration: none; color: var(--soft); border-bottom: 3px solid transparent; }
.parts a.here { color: var(--ink); font-weight: 600; border-bottom-color: var(--accent); }
</style>
