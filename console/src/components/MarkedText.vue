<script setup lang="ts">
import { computed, ref } from 'vue'

import { marked } from '../marking'

/** A field for a text in which the words that remarks are about are marked. The marks lie behind it. */
const props = defineProps<{ words: string[]; oneLine: boolean; rows: number; locale: string; address: boolean }>()
const emit = defineEmits<{ save: [] }>()
const text = defineModel<string>({ required: true })
const behind = ref<HTMLElement>()
const pieces = computed(() => marked(text.value, props.words))

function follow(event: Event): void {
  const field = event.target as HTMLElement
  if (!behind.value) return
  behind.value.scrollTop = field.scrollTop
  behind.value.scrollLeft = field.scrollLeft
}
</script>

<template>
  <span class="marked">
    <span v-if="words.length" ref="behind" class="form-control behind" :class="{ one: oneLine }" aria-hidden="true" dir="auto"><template v-for="(piece, at) in pieces" :key="at"><mark v-if="piece.meant">{{ piece.said }}</mark><template v-else>{{ piece.said }}</template></template>{{ oneLine ? '' : '\n' }}</span>
    <input v-if="oneLine" v-model="text" class="form-control" :lang="locale" dir="auto" :inputmode="address ? 'url' : undefined" @scroll="follow" @keydown.ctrl.enter="emit('save')" />
    <textarea v-else v-model="text" class="form-control" :rows="rows" :lang="locale" dir="auto" @scroll="follow" @keydown.ctrl.enter.prevent="emit('save')" />
  </span>
</template>

<style scoped>
.marked { display: grid; }
.marked > * { grid-area: 1 / 1; }
.marked > .behind + * { background: transparent; }
.behind { color: transparent; white-space: pre-wrap; overflow-wrap: break-word; overflow: hidden; border-color: transparent; min-height: 0; height: 0; min-height: 100%; pointer-events: none; user-select: none; }
.behind.one { white-space: pre; }
mark { color: transparent; background: var(--care-soft); box-shadow: inset 0 -2px 0 var(--care); padding: 0; }
</style>
