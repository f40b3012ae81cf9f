<script setup lang="ts">
import { nextTick, ref } from 'vue'

import type { Outlook } from '../api'
import { useDoing } from '../loading'
import ProblemNote from './ProblemNote.vue'

/** Take something out of use: the first press asks the desk what would block it and what stays, the second does it. */
const props = withDefaults(defineProps<{ what: string; ask: () => Promise<Outlook>; said?: string; disabled?: boolean }>(), { said: 'Retire' })
const emit = defineEmits<{ do: [] }>()
const doing = useDoing()
const outlook = ref<Outlook | null>(null)
const cancel = ref<{ $el: HTMLElement }>()

async function begin(): Promise<void> {
  await doing.run(async () => (outlook.value = await props.ask()))
  await nextTick()
  cancel.value?.$el.focus()
}

function act(): void {
  outlook.value = null
  emit('do')
}
</script>

<template>
  <BButton v-if="!outlook" size="sm" variant="link" :disabled="disabled || doing.busy.value" @click="begin">{{ said }} …</BButton>
  <div v-else class="asking" role="group" :aria-label="`${said} ${what}`" @keydown.esc="outlook = null">
    <template v-if="outlook.under_way.length"><p><strong>{{ what }} stays in use while this is under way:</strong></p><ul><li v-for="line in outlook.under_way" :key="line">{{ line }}</li></ul></template>
    <ul v-else><li v-for="line in outlook.stays" :key="line">{{ line }}</li></ul>
    <div class="row-gap"><BButton v-if="!outlook.under_way.length" size="sm" variant="danger" @click="act">{{ said }} {{ what }}</BButton><BButton ref="cancel" size="sm" variant="link" @click="outlook = null">{{ outlook.under_way.length ? 'Close' : 'Cancel' }}</BButton></div>
  </div>
  <ProblemNote :problem="doing.problem.value" />
</template>

<style scoped>
.asking { flex: 1 0 100%; background: var(--care-soft); border-radius: 0.5rem; padding: 0.5rem 0.8rem; font-size: 0.9rem; }
.asking p, .asking ul { margin: 0 0 0.3rem; }
.asking ul { padding-left: 1.1rem; }
</style>
