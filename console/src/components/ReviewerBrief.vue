<script setup lang="ts">
import { reactive, ref } from 'vue'

import { api, asRead, told } from '../api'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import AttachFiles from './AttachFiles.vue'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

type Brief = components['schemas']['BriefTold']
interface Named { sha256: string; name: string }

/** What the reviewers of an app at a store are told in every round: a note, a sign-in, files. */
const props = defineProps<{ app: string; store: string }>()
const emit = defineEmits<{ done: [] }>()

const { data: brief, problem, load } = useLoading<Brief | null>(async () =>
  (await told<Brief[]>(api.GET('/v1/apps/{app}/reviewer-briefs', { params: { path: { app: props.app } } }))).find((one) => one.store === props.store) ?? null,
)
void load()
const doing = useDoing()
const editing = ref(false)
const form = reactive({ note: '', name: '', password: '', how: '', signIn: 'keep' as 'keep' | 'change' | 'none', files: [] as Named[] })

/** What was read when the editing began. */
let condition = {}
function begin(): void {
  condition = asRead(`/v1/apps/${props.app}/reviewer-briefs`)
  const now = brief.value!
  Object.assign(form, { note: now.note, name: now.sign_in, password: '', how: '', signIn: now.sign_in ? 'keep' : 'none', files: now.files.map(({ sha256, name }) => ({ sha256, name })) })
  editing.value = true
}
async function save(): Promise<void> {
  const signIn = { keep: null, none: { name: '', password: '', how: '' }, change: { name: form.name, password: form.password, how: form.how } }[form.signIn]
  const body = { note: form.note, sign_in: signIn, files: form.files.map((one) => one.sha256) }
  const done = await doing.run(() => told(api.PATCH('/v1/apps/{app}/reviewer-briefs/{store}', { params: { header: condition, path: { app: props.app, store: props.store } }, body })), 'What reviewers are told is saved')
  if (!done) return
  form.password = ''
  editing.value = false
  await load()
  emit('done')
}
</script>

<template>
  <ProblemNote :problem="problem" />
  <div v-if="brief" class="brief no-print">
    <div v-if="!editing" class="row-gap small-print">
      <span class="soft">Told to reviewers of {{ brief.store_title }} in every round: <template v-if="brief.changed_at">{{ [brief.note && 'a note', brief.sign_in && 'a sign-in', brief.files.length && `${brief.files.length} files`].filter(Boolean).join(', ') || 'nothing' }}, since <Moment :at="brief.changed_at" /> by {{ brief.changed_by }}</template><template v-else>nothing yet</template></span>
      <BButton data-needs="prepare" size="sm" variant="link" :aria-label="`Change what reviewers of ${brief.store_title} are told`" @click="begin">Change</BButton>
    </div>
    <form v-else class="form" @submit.prevent="save">
      <label>Note for every round <textarea v-model="form.note" class="form-control form-control-sm" rows="3" maxlength="2000" /></label>
      <fieldset>
        <legend>Sign-in for the reviewer <span class="small-print soft">sealed, and never shown again</span></legend>
        <label v-if="brief.sign_in" class="row-gap"><input v-model="form.signIn" type="radio" value="keep" class="form-check-input" /> as it is: {{ brief.sign_in }}</label>
        <label class="row-gap"><input v-model="form.signIn" type="radio" value="change" class="form-check-input" /> {{ brief.sign_in ? 'another' : 'this one' }}</label>
        <label class="row-gap"><input v-model="form.signIn" type="radio" value="none" class="form-check-input" /> none</label>
        <div v-if="form.signIn === 'change'" class="form">
          <label>Name <input v-model="form.name" class="form-control form-control-sm" maxlength="300" autocomplete="off" /></label>
          <label>Password <input v-model="form.password" type="password" class="form-control form-control-sm" maxlength="500" autocomplete="new-password" /></label>
          <label>What else they must know <input v-model="form.how" class="form-control form-control-sm" maxlength="500" /></label>
        </div>
      </fieldset>
      <AttachFiles v-model="form.files" />
      <ProblemNote :problem="doing.problem.value" />
      <div class="row-gap"><BButton data-needs="prepare" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Save</BButton><BButton size="sm" variant="link" @click="editing = false">Cancel</BButton></div>
    </form>
  </div>
</template>

<style scoped>
.form { display: grid; gap: 0.5rem; }
.form label:not(.row-gap) { display: grid; gap: 0.2rem; font-size: 0.9rem; }
fieldset { border: 0; padding: 0; margin: 0; }
legend { font-size: 0.95rem; margin: 0; }
</style>
