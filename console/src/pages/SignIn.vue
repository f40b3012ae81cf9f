<script setup lang="ts">
import { nextTick, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, told } from '../api'
import ProblemNote from '../components/ProblemNote.vue'
import { useDoing, useLoading } from '../loading'
import { session } from '../session'
import { LIMITS } from '../states'

const route = useRoute()
const router = useRouter()
const email = ref('')
const password = ref('')
const code = ref('')
const { busy, problem, run } = useDoing()
/** The password was right, and a code of the second factor is needed. */
const needsCode = ref(false)
const codeInput = ref<HTMLInputElement>()
const forgot = ref(false)
const { data: ways, load } = useLoading(() => told(api.GET('/v1/sign-in/ways')))
void load()
const asked = ref(false)

async function signIn(): Promise<void> {
  const done = await run(() => session.signIn(email.value, password.value, code.value))
  if (!done) {
    if (problem.value?.code === 'second-factor-needed') {
      needsCode.value = true
      problem.value = null
      await nextTick()
      codeInput.value?.focus()
    }
    return
  }
  const next = String(route.query.next ?? '/')
  await router.push(next.startsWith('/') && !next.startsWith('//') ? next : '/')
}
async function ask(): Promise<void> {
  asked.value = await run(() => told(api.POST('/v1/password-resets', { body: { email: email.value } })))
}
</script>

<template>
  <form v-if="!forgot" class="sign-in card-plain" @submit.prevent="signIn">
    <img src="/mark.svg" alt="" width="56" height="56" />
    <h1>Restless Tide</h1>
    <p class="soft">The desk for everything that goes to testers and stores.</p>
    <ProblemNote :problem="problem" />
    <p v-if="route.query.wrong && !problem" class="wrong" role="alert">{{ route.query.wrong }}</p>
    <template v-if="ways?.provider_address">
      <a :href="`${ways.provider_address}?next=${encodeURIComponent(String(route.query.next ?? '/'))}`" class="btn btn-primary">Sign in by {{ ways.provider }}</a>
      <p class="soft small-print or">or by password</p>
    </template>
    <label for="email">E-mail</label>
    <input id="email" v-model="email" class="form-control" type="email" autocomplete="username" required autofocus />
    <label for="password">Password</label>
    <input id="password" v-model="password" class="form-control" type="password" autocomplete="current-password" required />
    <template v-if="needsCode">
      <label for="code">Code</label>
      <input id="code" ref="codeInput" v-model="code" class="form-control" inputmode="numeric" autocomplete="one-time-code" :maxlength="LIMITS.code" required aria-describedby="code-help" />
      <p id="code-help" class="soft small-print">The six digits that your authenticator shows now, or a recovery code.</p>
    </template>
    <BButton type="submit" :variant="ways?.provider_address ? 'outline-primary' : 'primary'" :disabled="busy">{{ busy ? 'Signing in …' : 'Sign in' }}</BButton>
    <BButton variant="link" @click="forgot = true">Forgot your password?</BButton>
  </form>
  <form v-else class="sign-in card-plain" @submit.prevent="ask">
    <h1>A new password</h1>
    <ProblemNote :problem="problem" />
    <template v-if="!asked">
      <p class="soft">You get a mail with a link by which you choose it.</p>
      <label for="email">E-mail</label>
      <input id="email" v-model="email" class="form-control" type="email" autocomplete="username" required autofocus />
      <BButton type="submit" variant="primary" :disabled="busy">Send the link</BButton>
    </template>
    <p v-else role="status">If someone here has the address {{ email }}, a mail is on its way to it. The link is valid for an hour.</p>
    <BButton variant="link" @click="((forgot = false), (asked = false))">Back to the sign-in</BButton>
  </form>
</template>

<style scoped>
.sign-in { max-width: 24rem; margin: 8vh auto 0; display: grid; gap: 0.5rem; padding: 1.75rem; }
.btn { margin-top: 0.75rem; }
.btn-link { margin-top: 0; }
.wrong { background: var(--alarm-soft); border-left: 4px solid var(--alarm); border-radius: 0.35rem; padding: 0.6rem 0.9rem; }
.or { text-align: center; }
p { margin: 0; }
</style>
