import { ref } from 'vue'

import { api, type Person, Problem, told } from './api'

const person = ref<Person | null>(null)
let loaded = false

/** Who is signed in, asked of the service once per page load. */
export const session = {
  person,
  async load(): Promise<void> {
    if (loaded) return
    try {
      person.value = await told(api.GET('/v1/me'))
      loaded = true
    } catch (wrong) {
      if (!(wrong instanceof Problem)) throw wrong
      loaded = wrong.status === 401
    }
  },
  async signIn(email: string, password: string): Promise<void> {
    person.value = await told(api.POST('/v1/sign-in', { body: { email, password } }))
    loaded = true
  },
  async signOut(): Promise<void> {
    await told(api.POST('/v1/sign-out'))
    person.value = null
  },
  ended(): void {
    person.value = null
    loaded = true
  },
}
