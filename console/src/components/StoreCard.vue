<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, type Store, told } from '../api'
import { useDoing } from '../loading'
import Moment from './Moment.vue'
import Explained from './Explained.vue'
import ProblemNote from './ProblemNote.vue'
import RetireButton from './RetireButton.vue'

/** One store: how it stands first, then its rules, and which of them change. */
const props = defineProps<{ store: Store }>()
const emit = defineEmits<{ changed: [] }>()
const doing = useDoing()
const tried = ref('')

async function tryAgain(): Promise<void> {
  await doing.run(async () => {
    const done = await told(api.POST('/v1/stores/{store}/untaken-events', { params: { path: { store: props.store.name } } }))
    tried.value = `${done.taken} taken now, ${done.left} left.`
    emit('changed')
  })
}

const askOutlook = () => told(api.GET('/v1/stores/{store}/disconnection', { params: { path: { store: props.store.name } } }))
async function disconnect(): Promise<void> {
  await doing.run(() => told(api.PUT('/v1/stores/{store}/disconnection', { params: { path: { store: props.store.name } }, body: { reason: '' } })), `${props.store.title} is disconnected`)
  emit('changed')
}

const wary = computed(() => props.store.expiries.filter((expiry) => new Date(expiry.until).getTime() - Date.now() < 45 * 86_400_000))
const later = computed(() => props.store.expiries.filter((expiry) => !wary.value.includes(expiry)))
const lacking = computed(() => Object.entries(props.store.missing_rights))
const taken = computed(() => props.store.revisions.filter((revision) => revision.changes.length))
const heard = computed(() => {
  if (!props.store.pushes) return 'asked for'
  return props.store.pushed_at ? 'pushed by the store' : 'pushed by the store, none yet'
})
</script>

<template>
  <section class="card-plain" :aria-label="store.title">
    <header class="row-gap"><h2>{{ store.title }}</h2><span class="mono soft">{{ store.name }}</span></header>

    <p v-if="store.disconnected_at" role="status"><strong>○ Disconnected</strong> <Moment :at="store.disconnected_at" />. Nothing is ordered of it. Connect it again under the name <code>{{ store.name }}</code> to use it.</p>
    <p v-else-if="store.hand_carried"><strong>☞ Carried by hand.</strong> <RouterLink v-if="store.waiting_steps" to="/steps">{{ store.waiting_steps }} step{{ store.waiting_steps === 1 ? ' waits' : 's wait' }} for a person</RouterLink><span v-else class="soft">No step waits.</span></p>
    <p v-else-if="store.trouble" class="trouble" role="status"><strong>○ Not reached.</strong> {{ store.trouble }} Orders are kept and tried again.</p>
    <p v-else>● Reached<template v-if="store.pending_orders"> · {{ store.pending_orders }} orders on their way</template></p>

    <p v-if="store.breaker.state !== 'closed'" class="trouble" role="status">
      <strong>◌ Left alone for now.</strong> {{ store.breaker.failures }} calls failed in a row<template v-if="store.breaker.rests_until">; it is tried again <Moment :at="store.breaker.rests_until" /></template>. A halt goes through all the same.
    </p>
    <p v-for="told in store.blocked" :key="told" class="trouble">✕ {{ told }}</p>
    <p v-for="expiry in wary" :key="expiry.what" class="trouble"><strong>◔ {{ expiry.what }} ends <Moment :at="expiry.until" />.</strong> {{ expiry.blocks }}</p>
    <p v-for="[right, consequence] in lacking" :key="right" class="trouble"><strong>The key may not: {{ right }}.</strong> Without it {{ consequence }}.</p>
    <p v-if="store.rulebook_trouble" class="trouble"><strong>A newer rulebook was not taken.</strong> {{ store.rulebook_trouble }}</p>
    <p v-if="store.forged_events" class="trouble"><strong>{{ store.forged_events }} forged event{{ store.forged_events === 1 ? '' : 's' }} refused.</strong> They did not prove that they come from the store; nothing was changed by them.</p>

    <div v-if="store.untaken.length" class="trouble">
      <p><strong>{{ store.untaken.length }} event{{ store.untaken.length === 1 ? '' : 's' }} of this store could not be taken.</strong> Everything that came after was taken. After an update of the desk or of the store's gateway they can be tried again.</p>
      <ul class="plain-list"><li v-for="event in store.untaken.slice(0, 5)" :key="event.sequence"><span class="mono">{{ event.sequence }}</span> {{ event.type }}, <Moment :at="event.at" />: {{ event.why }}</li></ul>
      <p v-if="store.untaken.length > 5" class="soft">and {{ store.untaken.length - 5 }} more</p>
      <div class="row-gap again"><BButton data-needs="arrange-desk" size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="tryAgain">Try them again</BButton><span v-if="tried" role="status">{{ tried }}</span></div>
      <ProblemNote :problem="doing.problem.value" />
    </div>

    <div v-if="store.announced" class="announced">
      <h3>Other rules <Moment :at="store.announced.in_force_since" /></h3>
      <ul class="plain-list changes">
        <li v-for="change in store.announced.changes" :key="change.place">{{ change.name }}: <span class="soft">{{ change.before }}</span> → <strong>{{ change.after }}</strong></li>
      </ul>
      <p v-if="!store.announced.hits.length" class="soft">They affect no app or release of yours.</p>
      <ul v-else class="plain-list affected">
        <li v-for="hit in store.announced.hits" :key="hit.app + hit.version">
          <strong>Affects {{ hit.app }} {{ hit.version }}</strong>
          <span v-for="said in hit.said" :key="said">{{ said }}</span>
        </li>
      </ul>
    </div>

    <dl v-if="!store.hand_carried && !store.disconnected_at" class="standing">
      <dt>Account</dt><dd>{{ store.account ?? '–' }}, standing {{ store.standing ?? 'not told yet' }}</dd>
      <template v-for="expiry in later" :key="expiry.what"><dt>{{ expiry.what }}</dt><dd>ends <Moment :at="expiry.until" /></dd></template>
      <template v-if="!store.expiries.some((expiry) => expiry.what === 'The key')"><dt>The key</dt><dd>no end is known</dd></template>
      <dt>This key may</dt><dd>{{ store.may.join(', ') }}</dd>
      <dt>Last sighting</dt><dd><Moment v-if="store.last_event_at" :at="store.last_event_at" /><template v-else>none yet</template> <span class="soft">· events are {{ heard }}</span></dd>
      <dt>Breaker</dt><dd>{{ store.breaker.state }}<template v-if="store.breaker.failures">, {{ store.breaker.failures }} failed in a row</template></dd>
      <template v-if="Math.abs(store.skew_seconds) >= 1"><dt>Its clock</dt><dd>differs from ours by {{ Math.round(store.skew_seconds) }} s; the desk allows for it</dd></template>
      <dt>Address</dt><dd class="mono">{{ store.address }}</dd>
    </dl>

    <details class="rulebook">
      <summary>Rulebook {{ store.rulebook_revision }}</summary>
      <p class="soft">The store's <Explained word="rulebook" /> that is in force now.</p>
      <ul class="rules"><li v-for="rule in store.rules" :key="rule">{{ rule }}</li></ul>
      <div v-for="revision in taken" :key="revision.revision">
        <h3>Revision {{ revision.revision }}, in force since <Moment :at="revision.in_force_since" /></h3>
        <ul class="plain-list changes"><li v-for="change in revision.changes" :key="change.place">{{ change.name }}: <span class="soft">{{ change.before }}</span> → <strong>{{ change.after }}</strong></li></ul>
      </div>
    </details>
    <div v-if="!store.disconnected_at" class="row-gap"><span data-needs="arrange-desk"><RetireButton :what="store.title" said="Disconnect" :ask="askOutlook" :disabled="doing.busy.value" @do="disconnect" /></span></div>
    <ProblemNote v-if="!store.untaken.length" :problem="doing.problem.value" />
  </section>
</template>

<style scoped>
p { margin: 0.4rem 0; }
.trouble { background: var(--care-soft); border-left: 4px solid var(--care); border-radius: 0.35rem; padding: 0.5rem 0.8rem; }
.again { margin-top: 0.5rem; }
.announced { border: 1px solid var(--line); border-radius: 0.35rem; padding: 0.6rem 0.8rem; margin: 0.5rem 0; }
.announced p { margin: 0.35rem 0 0; }
h3 { font-size: 0.95rem; margin: 0 0 0.3rem; }
.changes, .affected { font-size: 0.9rem; }
.affected li { display: grid; margin-top: 0.4rem; padding-left: 0.7rem; border-left: 3px solid var(--care); }
.standing { display: grid; grid-template-columns: auto 1fr; gap: 0.1rem 0.9rem; margin: 0.6rem 0; font-size: 0.9rem; }
.standing dt { color: var(--soft); font-weight: 400; }
.standing dd { margin: 0; overflow-wrap: anywhere; }
.rulebook summary { color: var(--accent); }
.rulebook h3 { margin-top: 0.6rem; }
.rules { margin: 0.35rem 0 0; padding-left: 1.1rem; font-size: 0.9rem; }
@media (max-width: 460px) { .standing { grid-template-columns: 1fr; } }
</style>
