<script setup lang="ts">
import { distance, onTheDay } from '../telling'

defineProps<{ at: string | null | undefined }>()
</script>

<template>
  <time v-if="at" :datetime="at" class="moment">{{ onTheDay(at) }}, {{ distance(at) }}</time>
</template>
