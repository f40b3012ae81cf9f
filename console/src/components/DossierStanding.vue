<script setup lang="ts">
/** Where one part of a dossier stands at each store, and the acts that bring it there. */
export interface AtStore {
  store: string
  store_title: string
  /** In words, with its mark. */
  said: string
  settled?: boolean
  sendable: boolean
  /** Something is to be put right before it can be sent. */
  unfit?: boolean
  kept: number
  unwritten: number
  refused_because: string
  lock?: string
}

/** ``one`` and ``many``: what is counted; ``all``: the part as a whole; ``done``: what nobody did with what the store holds. */
defineProps<{ label: string; stores: AtStore[]; words: { one: string; many: string; all: string; done: string }; none: string; busy: boolean }>()
const emit = defineEmits<{ send: [store: string]; take: [store: string]; first: [store: string] }>()
</script>

<template>
  <section v-if="stores.length" class="card-plain stores" :aria-label="label">
    <div v-for="store in stores" :key="store.store" class="store">
      <strong>{{ store.store_title }}</strong>
      <span :class="{ soft: store.settled }">{{ store.said }}</span>
      <BButton v-if="store.unfit" size="sm" variant="link" @click="emit('first', store.store)">Go to the first</BButton>
      <BButton data-needs="prepare" v-else-if="store.sendable" size="sm" variant="outline-primary" :disabled="busy" @click="emit('send', store.store)">Send to {{ store.store_title }}</BButton>
      <slot :store="store.store" />
      <p v-if="store.refused_because" class="refused">✕ It refused the {{ words.all }} it was sent last: {{ store.refused_because }}</p>
      <p v-if="store.kept" class="soft">{{ store.kept === 1 ? `1 ${words.one} waits and goes` : `${store.kept} ${words.many} wait and go` }} along automatically when the review there has ended.</p>
      <p v-if="store.unwritten" class="soft">It holds {{ store.unwritten }} {{ store.unwritten === 1 ? words.one : words.many }} that nobody {{ words.done }} here. <BButton data-needs="prepare" size="sm" variant="link" :disabled="busy" @click="emit('take', store.store)">Take {{ store.unwritten === 1 ? 'it' : 'them' }} over</BButton></p>
      <p v-if="store.lock" class="soft small-print">{{ store.lock }}</p>
    </div>
  </section>
  <p v-else class="card-plain soft">{{ none }} Open its place at a store on the page <RouterLink to="/stores">Stores</RouterLink> first; what you do here before is kept.</p>
</template>

<style scoped src="../dossier.css"></style>
