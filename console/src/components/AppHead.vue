<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type App, told } from '../api'

const props = defineProps<{ app: string; page: string; title: string }>()
const router = useRouter()
const apps = ref<App[]>([])
void told(api.GET('/v1/apps')).then((found) => (apps.value = found), () => undefined)

function turn(event: Event): void {
  void router.push(`/apps/${(event.target as HTMLSelectElement).value}/${props.page}`)
}
</script>

<template>
  <div class="page-head">
    <div class="row-gap">
      <h1>{{ title }}</h1>
      <label class="row-gap">
        <span class="visually-hidden">App</span>
        <select class="form-select" :value="app" @change="turn">
          <option v-for="known in apps" :key="known.name" :value="known.name">{{ known.title }}</option>
        </select>
      </label>
    </div>
    <div class="row-gap"><slot /></div>
  </div>
</template>
