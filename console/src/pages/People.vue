<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type App, type Person, told } from '../api'
import ConfirmButton from '../components/ConfirmButton.vue'
import GrantsEditor from '../components/GrantsEditor.vue'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import { may, session } from '../session'
import { LIMITS, RIGHTS, ROLE_TOLD, ROLES } from '../states'

/** Who works at the desk, and what each may do. */
type Schemas = components['schemas']
type Grant = Schemas['GrantWanted']
const manages = computed(() => may('manage-people', true))
const { data, problem, load } = useLoading(async () => {
  const [people, apps, rules] = await Promise.all([told(api.GET('/v1/people')), told(api.GET('/v1/apps')), told(api.GET('/v1/access-rules'))])
  return { people, apps, rules }
})
useLive(load, (change) => change.subject.startsWith('person') || change.subject === 'access rules')
const doing = useDoing()
const act = async (work: () => Promise<unknown>, said?: string) => {
  const done = await doing.run(work, said)
  if (done) await load()
  return done
}

const inviting = ref(false)
const fresh = () => ({ name: '', email: '', grants: [{ role: 'reader', apps: null }] as Grant[], byMail: true })
const form = reactive(fresh())
const link = ref<{ address: string; name: string } | null>(null)
const complete = (grants: Grant[]) => grants.every((grant) => !grant.apps || grant.apps.length > 0)
async function invite(): Promise<void> {
  const done = await act(async () => {
    const made = await told(api.POST('/v1/people', { body: { name: form.name, email: form.email, grants: form.grants, by_mail: form.byMail } }))
    link.value = made.link.address ? { address: made.link.address, name: form.name } : null
  }, form.byMail ? `${form.name} is invited; the mail is on its way` : `${form.name} is invited`)
  if (done) {
    inviting.value = false
    Object.assign(form, fresh())
  }
}

const open = ref<string | null>(null)
const grants = ref<Grant[]>([])
const reason = ref('')
const access = ref<Schemas['AccessTold'] | null>(null)
const at = (person: Person) => ({ params: { path: { person_id: person.id } } })
async function show(person: Person): Promise<void> {
  if (open.value === person.id) return void (open.value = null)
  open.value = person.id
  grants.value = person.grants.map((grant) => ({ role: grant.role, apps: grant.apps ?? null }))
  reason.value = ''
  access.value = await told(api.GET('/v1/people/{person_id}/access', at(person))).catch(() => null)
}
const allow = (person: Person) => act(async () => {
  await told(api.PUT('/v1/people/{person_id}/grants', { ...at(person), body: { grants: grants.value } }))
  if (person.id === session.person.value?.id) await session.again()
}, `What ${person.name} may do is saved`)
const send = (person: Person, byMail: boolean) => act(async () => {
  const made = await told(api.POST('/v1/people/{person_id}/links', { ...at(person), body: { by_mail: byMail } }))
  link.value = made.address ? { address: made.address, name: person.name } : null
}, byMail ? `A mail with the link leaves to ${person.name}` : undefined)
const endAll = (person: Person) => act(async () => {
  await told(api.POST('/v1/people/{person_id}/endings', { ...at(person), body: { reason: reason.value } }))
  access.value = await told(api.GET('/v1/people/{person_id}/access', at(person)))
}, `All access of ${person.name} is ended`)
const remove = (person: Person) => act(() => told(api.POST('/v1/people/{person_id}/removal', { ...at(person), body: { reason: reason.value, erase: false } })), `${person.name} is removed`)
const dropFactor = (person: Person) => act(() => told(api.DELETE('/v1/people/{person_id}/second-factor', at(person))), `${person.name} signs in by password alone`)
const demand = (on: boolean) => act(() => told(api.PUT('/v1/access-rules', { body: { second_factor: on } })), on ? 'A second factor is demanded of everybody' : 'A second factor is optional')
const second = (app: App) => act(() => told(api.PUT('/v1/apps/{app}/second-person', { params: { path: { app: app.name } }, body: { demanded: !app.second_person } })), app.second_person ? `${app.title} waits for no second person` : `${app.title} waits for a second person`)
const way = (person: Person) => (person.invited ? 'invited, has no password yet' : person.second_factor ? 'password and code' : 'password')
const roles = Object.keys(ROLES) as (keyof typeof ROLES)[]
const rights = Object.keys(RIGHTS) as (keyof typeof RIGHTS)[]
const holds = (role: keyof typeof ROLES, right: string) => (ROLES[role] as readonly string[]).includes(right)
</script>

<template>
  <div class="page-head"><h1>People</h1><BButton v-if="manages && !inviting" variant="primary" @click="inviting = true">Invite a person</BButton></div>
  <p class="soft">Who works at this desk, and what each may do.<template v-if="!manages"> An owner can change it.</template></p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <p v-if="link" class="card-plain secret" role="status"><strong>The link for {{ link.name }}, shown this once; it works once:</strong> <span class="mono">{{ link.address }}</span> <BButton size="sm" variant="link" @click="link = null">I have handed it over</BButton></p>

  <form v-if="inviting && data" class="card-plain block" aria-label="Invite a person" @submit.prevent="invite">
    <h2>Invite a person</h2>
    <div class="fields">
      <label>Name <input v-model="form.name" class="form-control form-control-sm" required :maxlength="LIMITS.line" autofocus /></label>
      <label>E-mail <input v-model="form.email" type="email" class="form-control form-control-sm" required :maxlength="LIMITS.line" /></label>
    </div>
    <GrantsEditor v-model="form.grants" :apps="data.apps" />
    <label class="row-gap"><input v-model="form.byMail" type="checkbox" class="form-check-input" /> Mail the invitation <span class="soft">else its link is shown here once</span></label>
    <div class="row-gap"><BButton type="submit" variant="primary" :disabled="doing.busy.value || !complete(form.grants)">Invite</BButton><BButton variant="link" @click="inviting = false">Cancel</BButton></div>
  </form>

  <template v-if="data">
    <section class="card-plain scroll-x" aria-label="People">
      <table class="table-plain">
        <thead><tr><th>Name</th><th>May do</th><th>Signs in by</th><th v-if="manages"><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody>
          <template v-for="person in data.people" :key="person.id">
            <tr>
              <td><strong>{{ person.name }}</strong><span v-if="person.id === session.person.value?.id" class="soft"> (you)</span><br /><span class="soft">{{ person.email }}</span></td>
              <td>{{ person.may }}</td>
              <td>{{ way(person) }}</td>
              <td v-if="manages" class="acts"><BButton size="sm" variant="link" :aria-expanded="open === person.id" @click="show(person)">{{ open === person.id ? 'Close' : 'Change' }}</BButton></td>
            </tr>
            <tr v-if="open === person.id"><td colspan="4">
              <div class="block opened">
                <GrantsEditor v-model="grants" :apps="data.apps" />
                <div><BButton size="sm" variant="primary" :disabled="doing.busy.value || !complete(grants)" @click="allow(person)">Save what {{ person.name }} may do</BButton></div>
                <div v-if="access" class="soft small-print">
                  <template v-if="access.sessions.length">{{ access.sessions.length }} {{ access.sessions.length === 1 ? 'session' : 'sessions' }} at the console, the latest since <Moment :at="access.sessions[0]!.created_at" /> from {{ access.sessions[0]!.place }}. </template><template v-else>No session at the console. </template>
                  {{ access.tokens.filter((token) => !token.revoked_at).length || 'No' }} valid tokens.
                </div>
                <div class="row-gap">
                  <BButton size="sm" variant="outline-primary" :disabled="doing.busy.value" @click="send(person, true)">{{ person.invited ? 'Mail the invitation again' : 'Mail a link for a new password' }}</BButton>
                  <BButton size="sm" variant="link" :disabled="doing.busy.value" @click="send(person, false)">Show a link instead</BButton>
                  <ConfirmButton v-if="person.second_factor" said="Drop the second factor" :consequence="`For a lost device: ${person.name} then signs in by password alone.`" sure="Drop it" :disabled="doing.busy.value" @do="dropFactor(person)" />
                </div>
                <div class="row-gap">
                  <label class="row-gap">Why <input v-model="reason" class="form-control form-control-sm why" :maxlength="LIMITS.line" placeholder="it stands in the logbook" /></label>
                  <ConfirmButton said="End all sessions and tokens" :consequence="`${person.name} has to sign in again, and scripts with a token of ${person.name} stop.`" sure="End them" :disabled="doing.busy.value || !reason.trim()" @do="endAll(person)" />
                  <ConfirmButton said="Remove" :consequence="`${person.name} can no longer sign in. What ${person.name} did stays in the logbook.`" sure="Remove" :disabled="doing.busy.value || !reason.trim()" @do="remove(person)" />
                </div>
              </div>
            </td></tr>
          </template>
        </tbody>
      </table>
    </section>
    <section class="card-plain block later" aria-labelledby="factor">
      <h2 id="factor">Second factor</h2>
      <p>{{ data.rules.second_factor ? 'Demanded of everybody who signs in by password. Who has none yet sets one up at the next sign-in.' : 'Optional. Each person can set one up under their account.' }}</p>
      <div v-if="manages"><ConfirmButton v-if="!data.rules.second_factor" said="Demand it of everybody" consequence="Who has none is asked to set one up before anything else; tokens stay valid." sure="Demand it" :disabled="doing.busy.value" @do="demand(true)" /><BButton v-else size="sm" variant="link" class="more" :disabled="doing.busy.value" @click="demand(false)">Make it optional</BButton></div>
    </section>
    <section v-if="data.apps.length" class="card-plain block later" aria-labelledby="second">
      <h2 id="second">Second person</h2>
      <p>Where it is demanded, handing in, go-aheads, raising and withdrawing wait until someone else agrees. Halts and pauses never wait.</p>
      <ul class="plain-list"><li v-for="app in data.apps" :key="app.name" class="row-gap between">
        <span><strong>{{ app.title }}</strong> <span class="soft">{{ app.second_person ? '✓ demanded' : 'not demanded' }}</span></span>
        <BButton v-if="may('manage-people', app.name)" size="sm" variant="link" :disabled="doing.busy.value" @click="second(app)">{{ app.second_person ? 'No longer demand it' : 'Demand it' }}</BButton>
      </li></ul>
    </section>
    <section class="card-plain scroll-x later" aria-labelledby="roles">
      <h2 id="roles">What the roles may do</h2>
      <table class="table-plain compare">
        <thead><tr><th>May</th><th v-for="role in roles" :key="role">{{ ROLE_TOLD[role].replace(/^an? /, '') }}</th></tr></thead>
        <tbody><tr v-for="right in rights" :key="right"><td>{{ RIGHTS[right] }}</td><td v-for="role in roles" :key="role"><span v-if="holds(role, right)">✓<span class="visually-hidden"> yes</span></span><span v-else class="visually-hidden">no</span></td></tr></tbody>
      </table>
    </section>
  </template>
  <p v-else-if="!problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.block { display: grid; gap: 0.7rem; margin-bottom: 0.8rem; }
.block p { margin: 0; }
.opened { padding: 0.4rem 0 0.6rem; margin: 0; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(16rem, 100%), 1fr)); gap: 0.7rem 1rem; }
.later { margin-top: 1rem; }
.between { justify-content: space-between; }
.acts { white-space: nowrap; text-align: right; }
.why { min-width: 16rem; }
.compare td:not(:first-child), .compare th:not(:first-child) { text-align: center; }
.secret { border-color: var(--accent); overflow-wrap: anywhere; margin-bottom: 1rem; }
.more { padding-left: 0; }
</style>
