<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, told } from '../api'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useDoing, useLoading } from '../loading'

/** Choosing a password by the link of a mail. The code stands behind the #, so no server on the way sees it. */
const route = useRoute()
const router = useRouter()
const code = route.hash.slice(1)
const path = { params: { path: { code } } }
const { data, problem, load } = useLoading(() => told(api.GET('/v1/personal-links/{code}', path)))
void load()
const doing = useDoing()
const password = ref('')
const again = ref('')
const done = ref(false)

async function choose(): Promise<void> {
  done.value = await doing.run(() => told(api.POST('/v1/personal-links/{code}', { ...path, body: { password: password.value } })))
}
</script>

<template>
  <form class="choose card-plain" @submit.prevent="choose">
    <img src="/mark.svg" alt="" width="56" height="56" />
    <h1>{{ data?.kind === 'reset' ? 'A new password' : 'Welcome' }}</h1>
    <ProblemNote :problem="problem ?? doing.problem.value" />
    <template v-if="done">
      <p role="status">✓ The password is set. The link is used up.</p>
      <BButton variant="primary" @click="router.push('/sign-in')">Go to the sign-in</BButton>
    </template>
    <template v-else-if="data">
      <p>Hello {{ data.name }}. Choose {{ data.kind === 'reset' ? 'the new' : 'a' }} password for this desk. <span class="soft">The link is valid until <Moment :at="data.expires_at" />.</span></p>
      <label for="new">Password <span class="soft small-print">{{ data.shortest_password }} characters or more</span></label>
      <input id="new" v-model="password" class="form-control" type="password" autocomplete="new-password" :minlength="data.shortest_password" required autofocus />
      <label for="again">The same again</label>
      <input id="again" v-model="again" class="form-control" type="password" autocomplete="new-password" required />
      <p v-if="again && again !== password" class="soft" role="status">The two are not the same yet.</p>
      <BButton type="submit" variant="primary" :disabled="doing.busy.value || again !== password || password.length < data.shortest_password">Set the password</BButton>
    </template>
    <p v-else-if="problem"><RouterLink to="/sign-in">To the sign-in</RouterLink></p>
    <p v-else class="soft" role="status">Loading …</p>
  </form>
</template>

<style scoped>
.choose { max-width: 26rem; margin: 8vh auto 0; display: grid; gap: 0.5rem; padding: 1.75rem; }
.btn { margin-top: 0.75rem; }
p { margin: 0; }
</style>
