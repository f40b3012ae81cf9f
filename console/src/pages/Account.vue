<script setup lang="ts">
import { reactive, ref } from 'vue'

import { api, type App, told } from '../api'
import ConfirmButton from '../components/ConfirmButton.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import { session } from '../session'
import { LIMITS, ROLE_TOLD } from '../states'

/** One's own account: name, password, second factor, sessions and tokens. */
type Schemas = components['schemas']
const me = session.person
const { data, problem, load } = useLoading(async () => {
  if (me.value?.second_factor_demanded) return { sessions: [], tokens: [], apps: [] as App[] }
  const [sessions, tokens, apps] = await Promise.all([told(api.GET('/v1/me/sessions')), told(api.GET('/v1/tokens')), told(api.GET('/v1/apps'))])
  return { sessions, tokens: tokens.filter((token) => !token.revoked_at), apps }
})
void load()
const doing = useDoing()
const act = async (work: () => Promise<unknown>, said?: string) => {
  const done = await doing.run(work, said)
  if (done) await load()
  return done
}

const name = ref(me.value?.name ?? '')
const rename = () => act(async () => (me.value = await told(api.PATCH('/v1/me', { body: { name: name.value } }))), 'Your name is saved')

const passwords = reactive({ current: '', fresh: '', again: '' })
async function changePassword(): Promise<void> {
  const done = await act(() => told(api.PUT('/v1/me/password', { body: { current: passwords.current, new: passwords.fresh } })), 'The password is changed; your other sessions have ended')
  if (done) Object.assign(passwords, { current: '', fresh: '', again: '' })
}

const proof = ref('')
const setup = ref<Schemas['SetupTold'] | null>(null)
const code = ref('')
const recovery = ref<string[] | null>(null)
const begin = () => act(async () => {
  setup.value = await told(api.POST('/v1/me/second-factor', { body: { password: proof.value } }))
  proof.value = ''
})
async function confirm(): Promise<void> {
  await act(async () => {
    recovery.value = (await told(api.PUT('/v1/me/second-factor', { body: { code: code.value } }))).codes
    setup.value = null
    code.value = ''
    await session.again()
  }, 'The second factor is set up')
}
const drop = () => act(async () => {
  await told(api.POST('/v1/me/second-factor/removal', { body: { password: proof.value } }))
  proof.value = ''
  await session.again()
}, 'You sign in by password alone')

const endOne = (id: string) => act(() => told(api.DELETE('/v1/me/sessions/{session_id}', { params: { path: { session_id: id } } })), 'The session has ended')
const endOthers = () => act(() => told(api.POST('/v1/me/endings')), 'Your other sessions have ended')

const making = ref(false)
const wish = reactive({ label: '', role: '' as '' | Schemas['Role'], apps: [] as string[], days: '' })
const made = ref<string | null>(null)
const roles = Object.keys(ROLE_TOLD) as Schemas['Role'][]
async function makeToken(): Promise<void> {
  const done = await act(async () => {
    const token = await told(api.POST('/v1/tokens', { body: { label: wish.label, role: wish.role || null, apps: wish.apps, days: wish.days ? Number(wish.days) : null } }))
    made.value = token.value
  })
  if (done) {
    making.value = false
    Object.assign(wish, { label: '', role: '', apps: [], days: '' })
  }
}
const revoke = (id: string) => act(() => told(api.DELETE('/v1/tokens/{token_id}', { params: { path: { token_id: id } } })), 'The token is revoked')
const held = (token: Schemas['TokenTold']) => [token.role ? ROLE_TOLD[token.role].replace(/^an? /, '') : 'what you may do', token.apps.length ? `of ${token.apps.join(', ')}` : ''].filter(Boolean).join(' ')
const browser = (agent: string) => agent.match(/(Firefox|Edg|Chrome|Safari)\/[\d.]+/)?.[0].replace('Edg/', 'Edge/').replace(/\/(\d+).*/, ' $1') ?? (agent.split(' ')[0] || 'unknown')
</script>

<template>
  <div class="page-head"><h1>Your account</h1></div>
  <p v-if="me?.second_factor_demanded" class="card-plain demanded" role="status"><strong>This desk demands a second factor.</strong> Set one up below; then everything you may do is open again.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <div class="cards">
    <section v-if="me && !me.second_factor_demanded" class="card-plain" aria-labelledby="you">
      <h2 id="you">You</h2>
      <p>{{ me.email }}<br /><span class="soft">You are {{ me.may }}.</span> <RouterLink to="/people">Who may do what</RouterLink></p>
      <form class="row-gap" @submit.prevent="rename"><label class="row-gap">Name <input v-model="name" class="form-control form-control-sm" required :maxlength="LIMITS.line" /></label><BButton type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value || name === me.name">Save</BButton></form>
    </section>
    <section v-if="me?.by_password && !me.second_factor_demanded" class="card-plain" aria-labelledby="password">
      <h2 id="password">Password</h2>
      <form class="stack" @submit.prevent="changePassword">
        <input type="hidden" autocomplete="username" :value="me.email" />
        <label>Current password <input v-model="passwords.current" type="password" class="form-control form-control-sm" autocomplete="current-password" required /></label>
        <label>New password <input v-model="passwords.fresh" type="password" class="form-control form-control-sm" autocomplete="new-password" required :minlength="LIMITS.shortestPassword" /></label>
        <label>The same again <input v-model="passwords.again" type="password" class="form-control form-control-sm" autocomplete="new-password" required /></label>
        <p class="soft small-print">Your other sessions end; tokens stay valid.</p>
        <BButton type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value || !passwords.fresh || passwords.fresh !== passwords.again">Change the password</BButton>
      </form>
    </section>
    <section v-if="me?.by_password" class="card-plain" aria-labelledby="factor">
      <h2 id="factor">Second factor</h2>
      <div v-if="recovery" class="stack" role="status">
        <p><strong>Recovery codes, shown this once.</strong> Each works once in place of a code, such as when your device is lost. Keep them safe.</p>
        <ul class="codes mono"><li v-for="one in recovery" :key="one">{{ one }}</li></ul>
        <BButton size="sm" variant="primary" @click="recovery = null">I have kept them</BButton>
      </div>
      <form v-else-if="setup" class="stack" @submit.prevent="confirm">
        <p>Scan this with your authenticator, or type <span class="mono secret">{{ setup.secret }}</span> into it.</p>
        <img :src="setup.picture" alt="The same secret as a QR code" width="200" height="200" class="qr" />
        <label>The code it shows now <input v-model="code" class="form-control form-control-sm" inputmode="numeric" autocomplete="one-time-code" :maxlength="LIMITS.code" required autofocus /></label>
        <div class="row-gap"><BButton type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Put it into force</BButton><BButton size="sm" variant="link" @click="setup = null">Cancel</BButton></div>
      </form>
      <form v-else class="stack" @submit.prevent="me.second_factor ? drop() : begin()">
        <p>{{ me.second_factor ? '✓ Codes from your authenticator are asked for at each sign-in.' : 'With it, a stolen password alone opens nothing: a code from your phone is asked for as well.' }}</p>
        <label>Your password <input v-model="proof" type="password" class="form-control form-control-sm" autocomplete="current-password" required /></label>
        <BButton type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value || !proof">{{ me.second_factor ? 'Drop it' : 'Set it up' }}</BButton>
      </form>
    </section>
    <section v-if="data && !me?.second_factor_demanded" class="card-plain wide" aria-labelledby="sessions">
      <div class="row-gap between"><h2 id="sessions">Sessions at the console</h2><BButton v-if="data.sessions.length > 1" size="sm" variant="link" :disabled="doing.busy.value" @click="endOthers">End all but this one</BButton></div>
      <div class="scroll-x full"><table class="table-plain">
        <thead><tr><th>Since</th><th>Last used</th><th>Until</th><th>Browser</th><th>From</th><th><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody><tr v-for="one in data.sessions" :key="one.id"><td><Moment :at="one.created_at" /></td><td><Moment v-if="one.last_used_at" :at="one.last_used_at" /></td><td><Moment :at="one.expires_at" /></td><td :title="one.agent">{{ browser(one.agent) }}</td><td>{{ one.place }}</td><td class="acts"><strong v-if="one.this">this one</strong><BButton v-else size="sm" variant="link" :disabled="doing.busy.value" @click="endOne(one.id)">End it</BButton></td></tr></tbody>
      </table></div>
    </section>
    <section v-if="data && !me?.second_factor_demanded" class="card-plain wide" aria-labelledby="tokens">
      <div class="row-gap between"><h2 id="tokens">Tokens</h2><BButton v-if="!making" size="sm" variant="outline-primary" @click="making = true">Make a token</BButton></div>
      <p class="soft">What a script, a build server or the command line sends instead of your password. It reaches what you reach, or less.</p>
      <p v-if="made" class="secret" role="status"><strong>The token, shown this once:</strong> <span class="mono">{{ made }}</span> <BButton size="sm" variant="link" @click="made = null">I have kept it</BButton></p>
      <form v-if="making" class="stack full" aria-label="Make a token" @submit.prevent="makeToken">
        <div class="fields">
          <label>Where it is used <input v-model="wish.label" class="form-control form-control-sm" required :maxlength="LIMITS.line" placeholder="build server" autofocus /></label>
          <label>Held to <select v-model="wish.role" class="form-select form-select-sm"><option value="">{{ wish.apps.length ? 'a build server' : 'what you may do' }}</option><option v-for="role in roles" :key="role" :value="role">{{ ROLE_TOLD[role] }}</option></select></label>
          <label>Days it is valid <input v-model="wish.days" type="number" min="1" class="form-control form-control-sm" placeholder="until revoked" /></label>
        </div>
        <div v-if="data.apps.length" class="row-gap"><span class="soft">Only for</span><label v-for="app in data.apps" :key="app.name" class="row-gap"><input v-model="wish.apps" type="checkbox" class="form-check-input" :value="app.name" /> {{ app.title }}</label></div>
        <div class="row-gap"><BButton type="submit" size="sm" variant="primary" :disabled="doing.busy.value">Make it</BButton><BButton size="sm" variant="link" @click="making = false">Cancel</BButton></div>
      </form>
      <div v-if="data.tokens.length" class="scroll-x full"><table class="table-plain">
        <thead><tr><th>Where it is used</th><th>Held to</th><th>Made</th><th>Last used</th><th>Until</th><th><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody><tr v-for="token in data.tokens" :key="token.id"><td><strong>{{ token.label }}</strong></td><td>{{ held(token) }}</td><td><Moment :at="token.created_at" /></td><td><Moment v-if="token.last_used_at" :at="token.last_used_at" /><template v-else>not yet</template></td><td><Moment v-if="token.expires_at" :at="token.expires_at" /><template v-else>until revoked</template></td><td class="acts"><ConfirmButton said="Revoke" consequence="Whatever uses it stops at once." sure="Revoke it" :disabled="doing.busy.value" @do="revoke(token.id)" /></td></tr></tbody>
      </table></div>
      <p v-else-if="!making" class="soft">No token is valid.</p>
    </section>
  </div>
</template>

<style scoped>
.cards { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(22rem, 100%), 1fr)); gap: 1rem; align-items: start; }
form.stack { width: 100%; }
section { display: grid; gap: 0.7rem; align-content: start; justify-items: start; }
p { margin: 0; }
.wide { grid-column: 1 / -1; }
.full, .between { width: 100%; }
.between { justify-content: space-between; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(14rem, 100%), 1fr)); gap: 0.7rem 1rem; }
.acts { text-align: right; white-space: nowrap; }
.codes { columns: 2; margin: 0; padding-left: 1.2rem; gap: 2rem; }
.qr { background: #fff; padding: 0.4rem; border-radius: 0.4rem; }
.secret { overflow-wrap: anywhere; }
.demanded { border-color: var(--accent); margin-bottom: 1rem; }
</style>
