<script setup lang="ts">
import EmptyState from '../components/EmptyState.vue'
</script>

<template>
  <EmptyState title="There is nothing at this address"><RouterLink to="/">Go to the overview</RouterLink></EmptyState>
</template>
