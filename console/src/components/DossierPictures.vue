<script setup lang="ts">
import { computed, nextTick, onMounted, ref } from 'vue'

import type { Problem } from '../api'
import { gets, type PictureSet, serving, standing, type Taker } from '../picturing'
import PictureStrip from './PictureStrip.vue'

/** The pictures of one class in one language, and what each store makes of them. */
const props = defineProps<{
  id: string
  title: string
  help: string
  film: boolean
  locale: string
  first: string
  set?: PictureSet
  takers: Taker[]
  only?: string
  asked: boolean
  save: (locale: string, key: string, pictures: string[], revision: number, store?: string | null) => Promise<Problem | null>
}>()

const box = ref<HTMLElement>()
const special = ref<string | null>(null)
const pictures = computed(() => props.set?.pictures ?? [])
const most = computed(() => Math.max(...props.takers.map((taker) => taker.rule.most), 1))
/** What several stores say of it in the same words is said once. */
const findings = (taker: Taker, ...levels: string[]) =>
  taker.store.findings.filter((one) => one.place === `pictures.${props.locale}.${taker.rule.key}` && levels.includes(one.level)).map((one) => one.detail)
const inherits = computed(() => !pictures.value.length && props.locale !== props.first)
const wanted = (taker: Taker) => {
  const rule = taker.rule
  const count = rule.fewest ? (rule.fewest === rule.most ? `${rule.most}` : `${rule.fewest} to ${rule.most}`) : `up to ${rule.most}`
  return `${count}; ${rule.sides}; ${rule.formats.join(', ')}`
}
onMounted(async () => {
  if (!props.asked) return
  await nextTick()
  box.value?.querySelector<HTMLElement>('.picture, button')?.focus()
  box.value?.scrollIntoView({ block: 'center' })
})
</script>

<template>
  <section :id="`pictures-${id}`" ref="box" class="card-plain" :aria-label="title">
    <header class="row-gap">
      <h2>{{ title }}</h2>
      <span v-if="only" class="soft">only {{ takers[0]?.store.store_title }} asks for it</span>
      <span v-if="set" class="soft small-print">put in by {{ set.changed_by }}</span>
    </header>
    <p class="soft small-print help">{{ help }} <template v-if="inherits">Without pictures in {{ locale }}, people there see those in {{ first }}.</template></p>
    <PictureStrip :label="`${title} in ${locale}`" :film="film" :pictures="pictures" :most="most" :save="(wish) => save(locale, id, wish, set?.revision ?? 0, only ?? null)" />
    <ul class="plain-list takers">
      <li v-for="taker in takers" :key="`${taker.store.store} ${taker.rule.key}`">
        <span class="who">{{ taker.store.store_title }}</span>
        <span>
          <template v-if="taker.rule.title !== title">{{ taker.rule.title }}: </template>
          <template v-if="taker.set?.pieces.length">{{ gets(taker.set).join('; ') || 'nothing that fits' }}</template>
          <template v-else>{{ taker.set ? `nothing from here; it holds ${taker.set.held.length}` : `takes ${wanted(taker)}` }}</template>
          <span v-if="taker.own" class="soft"> (its own)</span>
          <span v-else-if="taker.set && taker.set.serves !== taker.rule.key" class="soft"> (those of {{ serving(taker) }} serve here)</span>
        </span>
        <span :class="{ problem: !taker.set && taker.rule.fewest && locale === first }">{{ locale === first || taker.set ? standing(taker) : `· shows those in ${first}` }}</span>
        <BButton data-needs="prepare" v-if="!only && !taker.own && special !== `${taker.store.store} ${taker.rule.key}`" size="sm" variant="link" @click="special = `${taker.store.store} ${taker.rule.key}`">Give it others</BButton>
        <span v-else />
        <p v-for="said in findings(taker, 'blocker')" :key="said" class="said problem">✕ {{ said }}</p>
        <p v-for="said in findings(taker, 'caution')" :key="said" class="said remark">▲ {{ said }}</p>
        <p v-if="taker.rule.lock" class="said soft">{{ taker.rule.lock }}</p>
        <div v-if="!only && (taker.own || special === `${taker.store.store} ${taker.rule.key}`)" class="special">
          <span class="soft small-print">For {{ taker.store.store_title }} alone. It takes {{ wanted(taker) }}.</span>
          <PictureStrip :label="`${taker.rule.title} for ${taker.store.store_title}`" :film="film" :pictures="taker.own?.pictures ?? []" :most="taker.rule.most" :save="(wish) => save(locale, taker.rule.key, wish, taker.own?.revision ?? 0, taker.store.store)" />
        </div>
        <details v-if="taker.set?.pieces.some((piece) => piece.file && !piece.as_it_is)" class="held">
          <summary>See what {{ taker.store.store_title }} gets</summary>
          <div class="made"><img v-for="(piece, at) in taker.set.pieces.filter((one) => one.file)" :key="`${at} ${piece.file}`" :src="`/v1/pictures/${piece.file}/small`" :alt="`Number ${at + 1} as ${piece.width} × ${piece.height} ${piece.format}`" loading="lazy" /></div>
        </details>
      </li>
    </ul>
  </section>
</template>

<style scoped src="../dossier.css"></style>
<style scoped>
section { margin-bottom: 0.9rem; }
.takers li { grid-template-columns: minmax(6rem, 10rem) minmax(0, 1fr) auto auto; }
.said { grid-column: 2 / -1; margin: 0.1rem 0; }
.held { grid-column: 2 / -1; }
.made { display: flex; flex-wrap: wrap; gap: 0.6rem; padding-top: 0.4rem; }
.made img { height: 8rem; border: 1px solid var(--line); border-radius: 0.3rem; }
@media (max-width: 760px) { .takers li { grid-template-columns: minmax(0, 1fr); } .said, .held { grid-column: 1; } }
</style>
