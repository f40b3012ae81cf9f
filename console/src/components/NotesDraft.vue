<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { api, type Changed, told } from '../api'
import { useDoing } from '../loading'
import ProblemNote from './ProblemNote.vue'

/** What changed since the builds that people have, by the source's own history, and a draft for people. */
const props = defineProps<{ app: string; version: string }>()
const emit = defineEmits<{ take: [text: string]; leave: [] }>()
const found = ref<Changed | null>(null)
const doing = useDoing()
onMounted(() => doing.run(async () => void (found.value = await told(api.GET('/v1/apps/{app}/releases/{version}/changes', { params: { path: { app: props.app, version: props.version } } })))))
const groups = computed(() => Object.entries(found.value?.groups ?? {}).map(([key, title]) => ({ key, title, changes: found.value!.changes.filter((change) => change.group === key) })).filter((group) => group.changes.length))
const everywhere = (stores: string[]) => stores.length === found.value?.spans.length
const name = (store: string) => found.value?.spans.find((span) => span.store === store)?.title ?? store
</script>

<template>
  <div class="draft">
    <ProblemNote :problem="doing.problem.value" />
    <p v-if="doing.busy.value" class="soft" role="status">Reading the history …</p>
    <template v-if="found">
      <p class="soft small-print"><span v-for="span in found.spans" :key="span.store" class="span">{{ span.title }}: {{ span.commits }} commits {{ span.from_version ? `since ${span.from_version}` : 'up to the first build there' }}</span></p>
      <p v-for="remark in found.remarks" :key="remark" class="small-print">▲ {{ remark }}</p>
      <div class="columns">
        <div>
          <div v-for="group in groups" :key="group.key">
            <h3>{{ group.title }}</h3>
            <ul>
              <li v-for="change in group.changes" :key="change.revision"><template v-if="change.scope"><strong>{{ change.scope }}</strong>: </template>{{ change.summary }} <span class="soft small-print">{{ [...change.tickets, ...change.authors].join(', ') }}<template v-if="!everywhere(change.new_at)"> · new at {{ change.new_at.map(name).join(', ') }} only</template></span></li>
            </ul>
          </div>
          <p v-if="!groups.length" class="soft">Nothing changed.</p>
        </div>
        <div>
          <h3>Draft for people</h3>
          <pre v-if="found.draft">{{ found.draft }}</pre>
          <p v-else class="soft">Nothing that people would notice.</p>
          <p v-if="found.left_out" class="small-print">▲ {{ found.left_out }} lines did not fit every store.</p>
          <div class="row-gap"><BButton v-if="found.draft" size="sm" variant="primary" @click="emit('take', found.draft)">Edit it as notes</BButton><BButton size="sm" variant="link" @click="emit('leave')">Cancel</BButton></div>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.draft { border: 1px solid var(--line); border-radius: 0.5rem; padding: 0.8rem 1rem; margin-bottom: 0.8rem; }
.span { margin-right: 1.2rem; }
p { margin: 0 0 0.4rem; }
.columns { display: grid; gap: 1rem 2rem; grid-template-columns: repeat(auto-fit, minmax(min(100%, 22rem), 1fr)); }
ul { margin: 0.1rem 0 0.6rem; padding-left: 1.1rem; }
pre { font: inherit; white-space: pre-wrap; margin: 0 0 0.6rem; }
</style>
