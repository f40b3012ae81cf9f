<script setup lang="ts">
import { computed, ref } from 'vue'

import { type Answer, type Document, isDocument, type Shape, worded } from '../answering'
import { postFile } from '../api'
import { useDoing } from '../loading'
import { DOCUMENT_FORMATS } from '../states'

/** The controls by which one question is answered: choices, a number, words, a grid of kinds and attributes, or a document. */
const props = defineProps<{ shape: Shape; label: string; name: string; disabled?: boolean }>()
const answer = defineModel<Answer | null>({ required: true })

const chosen = computed(() => (Array.isArray(answer.value) ? answer.value : []))
const rows = computed(() => (answer.value !== null && typeof answer.value === 'object' && !Array.isArray(answer.value) && !isDocument(answer.value) ? answer.value : {}))
const open = computed(() => Object.keys(props.shape.kinds).filter((kind) => !(kind in rows.value)))

const file = ref<HTMLInputElement>()
const doing = useDoing()
const takes = computed(() => (props.shape.formats ?? DOCUMENT_FORMATS).join(', '))

/** Send the document to the desk; the answer names it from then on. */
async function choose(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const [chosenFile] = input.files ?? []
  input.value = ''
  if (!chosenFile) return
  await doing.run(async () => {
    answer.value = await postFile<Document>(`/v1/documents?name=${encodeURIComponent(chosenFile.name)}`, chosenFile)
  })
}
function toggle(choice: string): void {
  const next = chosen.value.includes(choice) ? chosen.value.filter((one) => one !== choice) : [...chosen.value, choice]
  answer.value = next.length ? next : null
}
function mark(kind: string, attribute: string): void {
  const row = rows.value[kind] ?? []
  put(kind, row.includes(attribute) ? row.filter((one) => one !== attribute) : [...row, attribute])
}
function put(kind: string, row: string[]): void {
  answer.value = { ...rows.value, [kind]: row }
}
function none(kind: string, held: boolean): void {
  if (held) put(kind, [])
  else answer.value = Object.keys(rows.value).length > 1 ? Object.fromEntries(Object.entries(rows.value).filter(([known]) => known !== kind)) : null
}
function rest(): void {
  answer.value = { ...rows.value, ...Object.fromEntries(open.value.map((kind) => [kind, []])) }
}
function number(said: string): void {
  answer.value = said.trim() === '' ? null : Number.isInteger(Number(said)) ? Number(said) : said
}
</script>

<template>
  <fieldset v-if="shape.form === 'choice' || shape.form === 'choices'" :disabled="disabled" class="choices">
    <legend class="visually-hidden">{{ label }}</legend>
    <label v-for="(words, choice) in shape.choices" :key="choice" class="choice">
      <input v-if="shape.form === 'choice'" v-model="answer" type="radio" class="form-check-input" :name="name" :value="choice" />
      <input v-else type="checkbox" class="form-check-input" :checked="chosen.includes(String(choice))" @change="toggle(String(choice))" />
      <span>{{ words }}</span>
    </label>
  </fieldset>
  <label v-else-if="shape.form === 'number'" class="number"><span class="visually-hidden">{{ label }}</span>
    <input type="number" class="form-control form-control-sm" :value="answer ?? ''" :min="shape.lowest" :max="shape.highest" step="1" :disabled="disabled" @input="number(($event.target as HTMLInputElement).value)" />
  </label>
  <label v-else-if="shape.form === 'text'" class="words"><span class="visually-hidden">{{ label }}</span>
    <textarea class="form-control" rows="3" dir="auto" :value="String(answer ?? '')" :disabled="disabled" @input="answer = ($event.target as HTMLTextAreaElement).value || null" />
  </label>
  <div v-else-if="shape.form === 'file'" class="row-gap document">
    <a v-if="isDocument(answer)" :href="`/v1/documents/${answer.sha256}`" :download="answer.name">{{ worded(shape, answer) }}</a>
    <input ref="file" type="file" class="visually-hidden" tabindex="-1" :aria-label="`A document: ${label}`" @change="choose" />
    <BButton size="sm" variant="outline-primary" :disabled="disabled || doing.busy.value" @click="file?.click()">{{ isDocument(answer) ? 'Choose another one' : 'Choose a document' }}</BButton>
    <BButton v-if="isDocument(answer)" size="sm" variant="link" :disabled="disabled" @click="answer = null">Take it out</BButton>
    <span v-if="doing.busy.value" class="soft" role="status">Sending …</span>
    <span v-else class="soft small-print">{{ takes }}</span>
    <p v-if="doing.problem.value" class="problem" role="alert">✕ {{ doing.problem.value.message }} {{ doing.problem.value.remedy }}</p>
  </div>
  <div v-else class="grid">
    <table>
      <caption class="visually-hidden">{{ label }}</caption>
      <thead><tr><td /><th scope="col">None of it</th><th v-for="(words, attribute) in shape.attributes" :key="attribute" scope="col">{{ words }}</th></tr></thead>
      <tbody>
        <tr v-for="(words, kind) in shape.kinds" :key="kind">
          <th scope="row">{{ words }} <span v-if="!(kind in rows)" class="soft">· not answered</span></th>
          <td data-label="None of it"><input type="checkbox" class="form-check-input" :aria-label="`${words}: none of it`" :checked="rows[kind]?.length === 0" :disabled="disabled || !!rows[kind]?.length" @change="none(String(kind), ($event.target as HTMLInputElement).checked)" /></td>
          <td v-for="(said, attribute) in shape.attributes" :key="attribute" :data-label="said"><input type="checkbox" class="form-check-input" :aria-label="`${words}: ${said}`" :checked="rows[kind]?.includes(String(attribute))" :disabled="disabled" @change="mark(String(kind), String(attribute))" /></td>
        </tr>
      </tbody>
    </table>
    <BButton v-if="open.length && open.length < Object.keys(shape.kinds).length + 1" size="sm" variant="link" :disabled="disabled" @click="rest">{{ open.length === Object.keys(shape.kinds).length ? 'None of all this' : 'None of the others' }}</BButton>
  </div>
</template>

<style scoped>
.choices { display: flex; flex-wrap: wrap; gap: 0.25rem 1.4rem; border: 0; padding: 0; margin: 0; }
.choice { display: flex; gap: 0.45rem; align-items: center; }
.choice input { margin: 0; }
.number input { max-width: 9rem; }
.words { display: grid; }
.document p { flex-basis: 100%; margin: 0; color: var(--alarm); font-weight: 600; }
.grid { overflow-x: auto; }
table { border-collapse: collapse; font-size: 0.92rem; }
th, td { padding: 0.2rem 0.8rem 0.2rem 0; text-align: center; font-weight: 400; border-bottom: 1px solid var(--line); }
thead th { font-weight: 600; vertical-align: bottom; }
tbody th { text-align: left; min-width: 9rem; }
@media (max-width: 620px) {
  thead { display: none; }
  tbody tr { display: flex; flex-wrap: wrap; gap: 0.1rem 1rem; padding: 0.4rem 0; border-bottom: 1px solid var(--line); }
  tbody th { flex-basis: 100%; font-weight: 600; }
  th, td { border: 0; padding: 0; }
  td::after { content: attr(data-label); margin-left: 0.4rem; }
}
</style>
