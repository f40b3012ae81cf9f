<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import ProblemNote from '../components/ProblemNote.vue'
import { useDoing } from '../loading'
import { session } from '../session'

const route = useRoute()
const router = useRouter()
const email = ref('')
const password = ref('')
const { busy, problem, run } = useDoing()

async function signIn(): Promise<void> {
  if (!(await run(() => session.signIn(email.value, password.value)))) return
  const next = String(route.query.next ?? '/')
  await router.push(next.startsWith('/') && !next.startsWith('//') ? next : '/')
}
</script>

<template>
  <form class="sign-in card-plain" @submit.prevent="signIn">
    <img src="/mark.svg" alt="" width="56" height="56" />
    <h1>Restless Tide</h1>
    <p class="soft">The desk for everything that goes to testers and stores.</p>
    <ProblemNote :problem="problem" />
    <label for="email">E-mail</label>
    <input id="email" v-model="email" class="form-control" type="email" autocomplete="username" required autofocus />
    <label for="password">Password</label>
    <input id="password" v-model="password" class="form-control" type="password" autocomplete="current-password" required />
    <BButton type="submit" variant="primary" :disabled="busy">{{ busy ? 'Signing in …' : 'Sign in' }}</BButton>
  </form>
</template>

<style scoped>
.sign-in { max-width: 24rem; margin: 8vh auto 0; display: grid; gap: 0.5rem; padding: 1.75rem; }
.btn { margin-top: 0.75rem; }
</style>
