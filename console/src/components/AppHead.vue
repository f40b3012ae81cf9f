<script setup lang="ts">
defineProps<{ title: string }>()
</script>

<template>
  <div class="page-head">
    <h1>{{ title }}</h1>
    <div class="row-gap"><slot /></div>
  </div>
</template>
