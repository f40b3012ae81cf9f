<script setup lang="ts">
import { useRouter } from 'vue-router'

import { appearance, singleKeys } from '../preferences'
import { session } from '../session'

const router = useRouter()

async function signOut(): Promise<void> {
  await session.signOut().catch(() => session.ended())
  await router.push('/sign-in')
}
const LOOKS = [['system', 'As the system'], ['light', 'Light'], ['dark', 'Dark']] as const
</script>

<template>
  <div class="page-head"><h1>Settings</h1></div>
  <div class="cards">
    <section class="card-plain" aria-labelledby="who">
      <h2 id="who">You</h2>
      <p>Signed in as <strong>{{ session.person.value?.name }}</strong> <span class="soft">{{ session.person.value?.email }}</span></p>
      <p class="soft small-print">You are {{ session.person.value?.may }}.</p>
      <div class="row-gap"><RouterLink to="/account" class="btn btn-outline-primary btn-sm">Password, second factor, sessions, tokens</RouterLink><BButton size="sm" variant="link" @click="signOut">Sign out of this browser</BButton></div>
    </section>
    <section class="card-plain" aria-labelledby="people">
      <h2 id="people">People</h2>
      <p>Who works at this desk, and what each may do.</p>
      <RouterLink to="/people" class="btn btn-outline-primary btn-sm">Open the people</RouterLink>
    </section>
    <section class="card-plain" aria-labelledby="notices">
      <h2 id="notices">Notices</h2>
      <p>Mails and webhooks that are sent when waiting ends or a person is needed.</p>
      <RouterLink to="/notices" class="btn btn-outline-primary btn-sm">Open the notices</RouterLink>
    </section>
    <section class="card-plain" aria-labelledby="ladders">
      <h2 id="ladders">Ladders</h2>
      <p>The stages that a rollout climbs, kept under a name.</p>
      <RouterLink to="/ladders" class="btn btn-outline-primary btn-sm">Open the ladders</RouterLink>
    </section>
    <section class="card-plain" aria-labelledby="freezes">
      <h2 id="freezes">Freezes</h2>
      <p>Windows in which nothing launches and no share rises.</p>
      <RouterLink to="/freezes" class="btn btn-outline-primary btn-sm">Open the freezes</RouterLink>
    </section>
    <section class="card-plain" aria-labelledby="look">
      <h2 id="look">Appearance</h2>
      <fieldset>
        <legend class="visually-hidden">Appearance</legend>
        <label v-for="[value, said] in LOOKS" :key="value" class="row-gap"><input v-model="appearance" type="radio" name="appearance" class="form-check-input" :value="value" /> {{ said }}</label>
      </fieldset>
      <p class="soft small-print">Kept in this browser.</p>
    </section>
    <section class="card-plain" aria-labelledby="keys">
      <h2 id="keys">Keys</h2>
      <p><kbd>/</kbd> finds anything. On a release, one letter begins an act; nothing happens before you have confirmed it.</p>
      <label class="row-gap"><input v-model="singleKeys" type="checkbox" class="form-check-input" /> One letter begins an act: <span><kbd>h</kbd> halt, <kbd>p</kbd> pause, <kbd>r</kbd> resume, <kbd>a</kbd> advance, <kbd>f</kbd> finish, <kbd>w</kbd> withdraw</span></label>
    </section>
  </div>
</template>

<style scoped>
.cards { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(22rem, 100%), 1fr)); gap: 1rem; }
section { display: grid; gap: 0.6rem; align-content: start; justify-items: start; }
p { margin: 0; }
fieldset { display: grid; gap: 0.35rem; }
kbd { background: var(--paper); color: var(--ink); border: 1px solid var(--line); }
</style>
