<script setup lang="ts">
import { reactive, ref } from 'vue'

import { api, Problem, type Register, told } from '../api'
import AppHead from '../components/AppHead.vue'
import EmptyState from '../components/EmptyState.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import { platformName, size } from '../telling'

const props = defineProps<{ app: string }>()
const path = { app: props.app }
const { data, problem, load } = useLoading<Register>(() => told(api.GET('/v1/apps/{app}/signing', { params: { path } })))
useLive(load, (change) => change.app === props.app || change.app === null)

const doing = useDoing()
const ACTS = { expect: 'Expect another certificate', replace: "Replace a lost sender's key", declare: 'Change what is declared', hold: 'Change who holds the key' } as const
type Deed = keyof typeof ACTS
const asked = ref<{ act: Deed; platform: string } | null>(null)
const given = reactive({ text: '', reason: '', holder: 'team' as 'team' | 'store' })
const laid = reactive({ platform: '', kind: 'certificate' })
const device = reactive({ platform: 'ios', name: '', identifier: '' })
const done = ref('')
const going = ref('')

function begin(act: Deed, platform: string): void {
  const page = data.value?.pages.find((entry) => entry.platform === platform)
  asked.value = { act, platform }
  given.text = act === 'declare' ? (page?.declared ?? []).join('\n') : ''
  given.reason = ''
  given.holder = page?.holder ?? 'team'
  done.value = ''
}

async function act(): Promise<void> {
  const wanted = asked.value
  if (!wanted) return
  const body = { platform: wanted.platform, reason: given.reason }
  const went = await doing.run(async () => {
    if (wanted.act === 'expect') await told(api.PUT('/v1/apps/{app}/signing/expected', { params: { path }, body: { ...body, sha256: given.text.trim() } }))
    if (wanted.act === 'declare') await told(api.PUT('/v1/apps/{app}/signing/declared', { params: { path }, body: { ...body, names: given.text.split(/\s+/).filter(Boolean) } }))
    if (wanted.act === 'hold') await told(api.PUT('/v1/apps/{app}/signing/holder', { params: { path }, body: { ...body, holder: given.holder } }))
    if (wanted.act === 'replace') {
      const found = await told(api.POST('/v1/apps/{app}/signing/replacements', { params: { path }, body: { ...body, sha256: given.text.trim() } }))
      done.value = found.steps.length ? `To do by hand: ${found.steps.join('; ')}.` : 'No store holds on to the first key; nothing to do there.'
    }
    await load()
  })
  if (went) asked.value = null
}

async function lay(event: Event): Promise<void> {
  const field = event.target as HTMLInputElement
  const file = field.files?.[0]
  if (!file) return
  await doing.run(async () => {
    const query = new URLSearchParams({ platform: laid.platform || data.value?.pages[0]?.platform || 'android', kind: laid.kind })
    const answer = await fetch(`/v1/apps/${props.app}/locker/${encodeURIComponent(file.name)}?${query}`, { method: 'PUT', body: file, headers: { 'Content-Type': 'application/octet-stream' } })
    if (!answer.ok) {
      const wrong = (await answer.json().catch(() => ({}))) as { detail?: string; remedy?: string }
      throw new Problem(answer.status, wrong.remedy ?? '', wrong.detail ?? `The desk answered ${answer.status}.`)
    }
    await load()
  })
  field.value = ''
}

const register = () => doing.run(async () => {
  await told(api.POST('/v1/apps/{app}/devices', { params: { path }, body: { ...device } }))
  device.name = device.identifier = ''
  await load()
})
const remove = (id: string) => doing.run(async () => {
  await told(api.DELETE('/v1/apps/{app}/devices/{device}', { params: { path: { app: props.app, device: id } } }))
  await load()
})
const takeOut = (name: string) => doing.run(async () => {
  await told(api.DELETE('/v1/apps/{app}/locker/{name}', { params: { path: { app: props.app, name } } }))
  going.value = ''
  await load()
})
const soon = (until: string | null | undefined) => !!until && new Date(until).getTime() - Date.now() < 45 * 86_400_000
</script>

<template>
  <AppHead title="Signing" />
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <p v-if="done" class="card-plain said" role="status">☞ {{ done }} <RouterLink to="/steps">See the steps</RouterLink></p>
  <template v-if="data">
    <section v-if="data.expiries.length" class="card-plain expiries" aria-labelledby="expiries">
      <h2 id="expiries">What expires when</h2>
      <ul class="plain-list">
        <li v-for="expiry in data.expiries" :key="expiry.what + expiry.until" :class="{ care: soon(expiry.until) }"><strong>{{ soon(expiry.until) ? '◔' : '·' }} <Moment :at="expiry.until" /></strong><span>{{ expiry.what }}. <span class="soft">{{ expiry.then }}</span></span></li>
      </ul>
    </section>
    <EmptyState v-if="!data.pages.length" title="Nothing is known yet">The first build sets whose signature is expected and what it may ask for.</EmptyState>
    <div class="pages">
      <section v-for="page in data.pages" :key="page.platform" class="card-plain" :aria-label="`Signing for ${page.platform}`">
        <h2>{{ platformName(page.platform) }}</h2>
        <dl>
          <dt>The key is held by</dt><dd>the {{ page.holder }}</dd>
          <dt>Expected</dt>
          <dd><p v-for="entry in page.certificates" :key="entry.sha256">{{ entry.subject || 'a certificate' }}<span class="mono soft digest">{{ entry.sha256 }}</span><span v-if="entry.valid_until" class="soft small-print">to <Moment :at="entry.valid_until" /></span></p><span v-if="!page.certificates.length" class="soft">nothing yet: no build was signed</span></dd>
          <dt>Declared</dt><dd><span v-for="name in page.declared ?? []" :key="name" class="mono declared">{{ name }}</span><span v-if="!page.declared?.length" class="soft">nothing</span></dd>
          <dt>Last changed</dt><dd><Moment :at="page.changed_at" /> <span class="soft">{{ page.reason }}</span></dd>
        </dl>
        <form v-if="asked?.platform === page.platform" class="stack" @submit.prevent="act">
          <h3>{{ ACTS[asked.act] }}</h3>
          <p v-if="asked.act === 'replace'" class="soft small-print">The new certificate is expected from now on. Where a store holds on to the first key, a step for a person is prepared.</p>
          <label v-if="asked.act === 'hold'">Held by <select v-model="given.holder" class="form-select form-select-sm"><option value="team">the team</option><option value="store">the store</option></select></label>
          <label v-else-if="asked.act === 'declare'">Permissions and rights, one a line <textarea v-model="given.text" class="form-control" rows="4" /></label>
          <label v-else>SHA-256 of the new certificate <input v-model="given.text" class="form-control form-control-sm mono" required pattern="\s*[0-9a-fA-F]{64}\s*" title="64 hexadecimal digits" /></label>
          <label>Reason, for the logbook <input v-model="given.reason" class="form-control form-control-sm" required /></label>
          <div class="row-gap"><BButton data-needs="arrange-apps" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">{{ ACTS[asked.act] }}</BButton><BButton size="sm" variant="link" @click="asked = null">Cancel</BButton></div>
        </form>
        <div v-else class="row-gap deeds"><BButton data-needs="arrange-apps" v-for="(name, key) in ACTS" :key="key" size="sm" variant="link" @click="begin(key, page.platform)">{{ name }}</BButton></div>
      </section>
      <section class="card-plain" aria-labelledby="locker">
        <h2 id="locker">The locker</h2>
        <p class="soft small-print">Sealed at rest. A build server fetches with <code>tide locker fetch</code>; each fetch stands in the logbook.</p>
        <ul v-if="data.locker.length" class="plain-list files">
          <li v-for="file in data.locker" :key="file.name"><strong>{{ file.name }}</strong> <span class="soft">{{ file.kind }} for {{ platformName(file.platform) }} · {{ size(file.size_bytes) }}</span><br /><span class="soft small-print">{{ file.told }}<template v-if="file.expires_at"> · ends <Moment :at="file.expires_at" /></template></span>
            <div class="row-gap"><a :href="`/v1/apps/${app}/locker/${encodeURIComponent(file.name)}/content`" :download="file.name" class="small-print">Fetch</a><BButton data-needs="arrange-apps" v-if="going !== file.name" size="sm" variant="link" @click="going = file.name">Take out …</BButton><template v-else><span class="small-print">It is gone for good, with every older one of that name.</span><BButton data-needs="arrange-apps" size="sm" variant="danger" :disabled="doing.busy.value" @click="takeOut(file.name)">Take it out</BButton><BButton size="sm" variant="link" @click="going = ''">Cancel</BButton></template></div></li>
        </ul>
        <p v-else class="soft">It is empty.</p>
        <div class="row-gap lay">
          <select v-model="laid.kind" class="form-select form-select-sm" aria-label="Kind of file"><option>certificate</option><option>key</option><option>profile</option><option>other</option></select>
          <select v-model="laid.platform" class="form-select form-select-sm" aria-label="Platform"><option value="" disabled>platform</option><option v-for="page in data.pages" :key="page.platform" :value="page.platform">{{ platformName(page.platform) }}</option></select>
          <label class="btn btn-sm btn-outline-primary">Add a file<input type="file" class="visually-hidden" @change="lay" /></label>
        </div>
      </section>
      <section class="card-plain" aria-labelledby="devices">
        <h2 id="devices">Test devices</h2>
        <ul v-if="data.devices.length" class="plain-list files">
          <li v-for="entry in data.devices" :key="entry.id"><strong>{{ entry.name }}</strong> <span class="mono soft">{{ entry.identifier }}</span> <BButton data-needs="arrange-apps" size="sm" variant="link" @click="remove(entry.id)">Remove</BButton><br /><span v-if="entry.expires_at" class="soft small-print">to <Moment :at="entry.expires_at" /></span></li>
        </ul>
        <p v-else class="soft">None is registered.</p>
        <form class="row-gap lay" @submit.prevent="register">
          <input v-model="device.name" class="form-control form-control-sm" placeholder="whose it is" aria-label="Name" />
          <input v-model="device.identifier" class="form-control form-control-sm" placeholder="identifier" aria-label="Identifier" required />
          <BButton data-needs="arrange-apps" type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value">Register</BButton>
        </form>
      </section>
    </div>
  </template>
</template>

<style scoped>
.said { margin-bottom: 1rem; border-left: 4px solid var(--care); }
.expiries { margin-bottom: 1rem; }
.expiries li { display: grid; grid-template-columns: 19.5rem 1fr; gap: 0.2rem 1rem; padding: 0.25rem 0; }
.expiries strong { font-weight: 500; }
.expiries .care strong { font-weight: 650; }
.expiries .care strong { color: var(--care); }
.pages { display: grid; gap: 1rem; grid-template-columns: repeat(auto-fit, minmax(min(100%, 26rem), 1fr)); align-items: start; }
h2 { margin-bottom: 0.4rem; }
dl { display: grid; grid-template-columns: auto 1fr; gap: 0.3rem 0.9rem; margin: 0 0 0.6rem; }
dt { color: var(--soft); font-weight: 400; }
dd { margin: 0; overflow-wrap: anywhere; }
dd p { margin: 0; }
.digest { display: block; font-size: 0.78rem; }
.declared { display: block; font-size: 0.82rem; }
.deeds { border-top: 1px solid var(--line); padding-top: 0.4rem; }
.files li { padding: 0.3rem 0; border-bottom: 1px solid var(--line); }
.lay { margin-top: 0.7rem; }
.lay .form-control, .lay .form-select { width: auto; flex: 1 1 7rem; }
@media (max-width: 560px) { .expiries li { grid-template-columns: 1fr; } dl { grid-template-columns: 1fr; } }
</style>
