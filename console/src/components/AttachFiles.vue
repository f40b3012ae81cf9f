<script setup lang="ts">
import { postFile } from '../api'
import { useDoing } from '../loading'
import ProblemNote from './ProblemNote.vue'

/** Documents that go along with something: each is sent to the desk as it is chosen, and can be taken out again. */
const files = defineModel<{ sha256: string; name: string }[]>({ required: true })
const doing = useDoing()
const attach = (event: Event) =>
  doing.run(async () => {
    const input = event.target as HTMLInputElement
    for (const file of input.files ?? []) {
      const kept = await postFile<{ sha256: string; name: string }>(`/v1/documents?name=${encodeURIComponent(file.name)}`, file)
      files.value = [...files.value, kept]
    }
    input.value = ''
  })
</script>

<template>
  <ul v-if="files.length" class="plain-list"><li v-for="file in files" :key="file.sha256" class="row-gap">{{ file.name }} <BButton size="sm" variant="link" :aria-label="`Take ${file.name} out`" @click="files = files.filter((one) => one !== file)">Take out</BButton></li></ul>
  <label class="attach">Attach <input type="file" class="form-control form-control-sm" multiple accept=".pdf,.png,.jpg,.jpeg,.txt" @change="attach" /></label>
  <ProblemNote :problem="doing.problem.value" />
</template>

<style scoped>
.attach { display: grid; gap: 0.2rem; font-size: 0.9rem; }
</style>
