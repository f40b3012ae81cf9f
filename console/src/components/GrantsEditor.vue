<script setup lang="ts">
import type { App } from '../api'
import type { components } from '../schema'
import { ROLE_TOLD, ROLES } from '../states'

/** The roles of one person: each for all apps, or for those chosen. */
type Grant = components['schemas']['GrantWanted']
defineProps<{ apps: App[] }>()
const grants = defineModel<Grant[]>({ required: true })
const NAMES = Object.keys(ROLES) as (keyof typeof ROLES)[]

function change(at: number, to: Partial<Grant>): void {
  grants.value = grants.value.map((grant, place) => (place === at ? { ...grant, ...to } : grant))
}
function choose(at: number, app: string, on: boolean): void {
  const chosen = grants.value[at]?.apps ?? []
  change(at, { apps: on ? [...chosen, app] : chosen.filter((name) => name !== app) })
}
const add = () => (grants.value = [...grants.value, { role: 'reader', apps: null }])
const drop = (at: number) => (grants.value = grants.value.filter((_, place) => place !== at))
</script>

<template>
  <fieldset class="stack">
    <legend>May do</legend>
    <div v-for="(grant, at) in grants" :key="at" class="grant">
      <select class="form-select form-select-sm" :aria-label="`Role ${at + 1}`" :value="grant.role" @change="change(at, { role: ($event.target as HTMLSelectElement).value as Grant['role'] })"><option v-for="role in NAMES" :key="role" :value="role">{{ ROLE_TOLD[role].replace(/^an? /, '') }}</option></select>
      <select class="form-select form-select-sm" :aria-label="`Role ${at + 1} is for`" :value="grant.apps ? 'some' : 'all'" @change="change(at, { apps: ($event.target as HTMLSelectElement).value === 'all' ? null : [] })"><option value="all">for all apps</option><option value="some" :disabled="!apps.length">for some apps</option></select>
      <BButton v-if="grants.length > 1" size="sm" variant="link" :aria-label="`Take role ${at + 1} away`" @click="drop(at)">Take away</BButton>
      <div v-if="grant.apps" class="apps">
        <label v-for="app in apps" :key="app.name" class="check"><input type="checkbox" class="form-check-input" :checked="grant.apps.includes(app.name)" @change="choose(at, app.name, ($event.target as HTMLInputElement).checked)" /> {{ app.title }}</label>
        <span v-if="!grant.apps.length" class="soft">Choose at least one.</span>
      </div>
    </div>
    <div><BButton size="sm" variant="link" class="more" @click="add">Add another role</BButton></div>
  </fieldset>
</template>

<style scoped>
legend { font-size: 1rem; margin: 0; }
.grant { display: flex; flex-wrap: wrap; gap: 0.4rem 0.7rem; align-items: center; }
.grant select { width: auto; }
.apps { flex: 1 0 100%; display: flex; flex-wrap: wrap; gap: 0.2rem 1rem; padding-left: 0.2rem; }
.check { display: flex; gap: 0.4rem; align-items: center; }
.more { padding-left: 0; }
</style>
