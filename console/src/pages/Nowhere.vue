<script setup lang="ts">
import EmptyState from '../components/EmptyState.vue'
</script>

<template>
  <h1 class="visually-hidden">Not found</h1>
  <EmptyState title="There is nothing at this address">The address may be mistyped, or what was here has gone. <RouterLink to="/">Go to today</RouterLink>, or find it with the box above.</EmptyState>
</template>
