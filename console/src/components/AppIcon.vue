<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import type { App } from '../api'

const props = withDefaults(defineProps<{ app: Pick<App, 'title' | 'icon'>; size?: number }>(), { size: 32 })
const broken = ref(false)
watch(() => props.app.icon, () => (broken.value = false))
const source = computed(() => (props.app.icon && !broken.value ? `/v1/packages/${props.app.icon}/icon` : null))
</script>

<template>
  <img v-if="source" :src="source" alt="" :width="size" :height="size" class="icon" @error="broken = true" />
  <span v-else class="icon letter" aria-hidden="true" :style="{ width: `${size}px`, height: `${size}px`, fontSize: `${size * 0.5}px` }">{{ app.title.slice(0, 1) }}</span>
</template>

<style scoped>
.icon { border-radius: 22%; flex: none; }
.letter { display: inline-grid; place-items: center; background: color-mix(in srgb, var(--water) 45%, var(--card)); color: var(--ink); font-weight: 650; }
</style>
