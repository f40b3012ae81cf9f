<script setup lang="ts">
import { reactive, ref } from 'vue'

import { api, type App, type Delivery, type NoticeKind, type Subscription, told } from '../api'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import PhaseWord from '../components/PhaseWord.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { usePaged } from '../paged'
import { session } from '../session'
import { NOTICE_KINDS } from '../states'

const { data, problem, load } = useLoading(async () => {
  const [subscriptions, apps] = await Promise.all([told<Subscription[]>(api.GET('/v1/subscriptions')), told<App[]>(api.GET('/v1/apps'))])
  return { subscriptions, apps }
})
const PAGE = 50
const deliveries = usePaged<Delivery>(
  PAGE,
  (after) => told(api.GET('/v1/deliveries', { params: { query: { after: after || undefined, limit: PAGE } } })),
  (entry) => entry.id,
  [],
)
useLive(load)
useLive(deliveries.refresh)

const doing = useDoing()
const adding = ref(false)
const secret = ref<string | null>(null)
const wish = reactive({ channel: 'mail' as 'mail' | 'webhook', address: session.person.value?.email ?? '', kinds: [...NOTICE_KINDS] as NoticeKind[], apps: [] as string[] })

async function act(work: () => Promise<unknown>, said?: string): Promise<boolean> {
  const done = await doing.run(work, said)
  if (done) await Promise.all([load(), deliveries.begin()])
  return done
}
async function subscribe(): Promise<void> {
  const done = await act(async () => {
    const made = await told(api.POST('/v1/subscriptions', { body: { channel: wish.channel, address: wish.address, kinds: wish.kinds, apps: wish.apps } }))
    secret.value = made.secret ?? null
  }, `${wish.address} is subscribed`)
  if (done) adding.value = false
}
const end = (entry: Subscription) => act(() => told(api.DELETE('/v1/subscriptions/{subscription}', { params: { path: { subscription: entry.id } } })), `${entry.address} is told nothing more`)
const tryOut = (id: string) => act(() => told(api.POST('/v1/subscriptions/{subscription}/tries', { params: { path: { subscription: id } } })))
const again = (id: string) => act(() => told(api.POST('/v1/deliveries/{delivery}/again', { params: { path: { delivery: id } } })))
</script>

<template>
  <div class="page-head"><h1>Notices</h1><BButton variant="primary" @click="adding = !adding">New subscription</BButton></div>
  <p class="soft intro">By mail or webhook, when waiting ends, when a person is needed, and when a store has news.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="deliveries.problem.value" />
  <ProblemNote :problem="doing.problem.value" />
  <p v-if="secret" class="secret card-plain" role="status"><strong>The signing secret, shown this once:</strong> <span class="mono">{{ secret }}</span> <BButton size="sm" variant="link" @click="secret = null">I have kept it</BButton></p>
  <form v-if="adding && data" class="card-plain stack form" @submit.prevent="subscribe">
    <h2>New subscription</h2>
    <div class="row-gap">
      <label>How <select v-model="wish.channel" class="form-select"><option value="mail">by mail</option><option value="webhook">by webhook</option></select></label>
      <label class="grow">{{ wish.channel === 'mail' ? 'Address' : 'Where to post (signed by Standard Webhooks)' }} <input v-model="wish.address" class="form-control" required :type="wish.channel === 'mail' ? 'email' : 'url'" /></label>
    </div>
    <fieldset><legend>Of what</legend><div class="kinds"><label v-for="kind in NOTICE_KINDS" :key="kind" class="check"><input v-model="wish.kinds" type="checkbox" class="form-check-input" :value="kind" /> {{ kind }}</label></div></fieldset>
    <fieldset v-if="data.apps.length"><legend>Of which apps <span class="soft small-print">none chosen: all</span></legend><div class="kinds"><label v-for="app in data.apps" :key="app.name" class="check"><input v-model="wish.apps" type="checkbox" class="form-check-input" :value="app.name" /> {{ app.title }}</label></div></fieldset>
    <div><BButton type="submit" variant="primary" :disabled="doing.busy.value || !wish.kinds.length">Subscribe</BButton></div>
  </form>
  <template v-if="data">
    <EmptyState v-if="!data.subscriptions.length && !adding" title="Nobody is subscribed yet">Have a mail sent when a review ends, or post every event to your own machines.</EmptyState>
    <section v-else-if="data.subscriptions.length" class="card-plain scroll-x" aria-label="Subscriptions">
      <table class="table-plain">
        <thead><tr><th>Who</th><th>Of what</th><th>Apps</th><th><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody>
          <tr v-for="entry in data.subscriptions" :key="entry.id">
            <td><strong>{{ entry.address }}</strong><br /><span class="soft">by {{ entry.channel }}</span></td>
            <td>{{ entry.kinds.length === NOTICE_KINDS.length ? 'everything' : entry.kinds.join(', ') }}</td>
            <td>{{ entry.apps.join(', ') || 'all' }}</td>
            <td class="acts"><BButton size="sm" variant="link" :disabled="doing.busy.value" @click="tryOut(entry.id)">Try it</BButton><BButton size="sm" variant="link" :disabled="doing.busy.value" @click="end(entry)">End it</BButton></td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-if="deliveries.rows.value.length" class="card-plain scroll-x told" aria-labelledby="told">
      <h2 id="told">Sent notices</h2>
      <table class="table-plain">
        <thead><tr><th>When</th><th>What</th><th>To</th><th>State</th></tr></thead>
        <tbody>
          <tr v-for="entry in deliveries.rows.value" :key="entry.id">
            <td><Moment :at="entry.at" /></td>
            <td><span class="soft">{{ entry.kind }}</span><br /><RouterLink :to="entry.place">{{ entry.said }}</RouterLink></td>
            <td>{{ entry.address }}</td>
            <td><PhaseWord :phase="entry.state" /> <span v-if="entry.trouble" class="soft">{{ entry.attempts }} tries: {{ entry.trouble }}</span> <BButton v-if="entry.possible.includes('send again')" size="sm" variant="link" :disabled="doing.busy.value" @click="again(entry.id)">Send again</BButton></td>
          </tr>
        </tbody>
      </table>
      <BButton v-if="!deliveries.ended.value" size="sm" variant="outline-primary" @click="doing.run(deliveries.next)">Show more</BButton>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.intro { margin: 0 0 1rem; }
.form { margin-bottom: 1rem; max-width: 52rem; }
.form label { display: grid; gap: 0.25rem; }
.form .check { display: flex; gap: 0.5rem; align-items: center; }
.grow { flex: 1; min-width: min(14rem, 100%); }
.kinds { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(13rem, 100%), 1fr)); gap: 0.2rem 1rem; }
legend { font-size: 1rem; margin-bottom: 0.3rem; }
.told { margin-top: 1rem; }
.acts { white-space: nowrap; }
.secret { border-color: var(--accent); overflow-wrap: anywhere; margin-bottom: 1rem; }
</style>
