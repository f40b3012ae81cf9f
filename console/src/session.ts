import { ref } from 'vue'

import { api, type Me, Problem, type Right, told } from './api'

const person = ref<Me | null>(null)
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
  async again(): Promise<void> {
    person.value = await told(api.GET('/v1/me'))
  },
  async signIn(email: string, password: string, code = ''): Promise<void> {
    await told(api.POST('/v1/sign-in', { body: { email, password, code } }))
    await session.again()
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

/** Whether the one who is signed in holds a right: for an app, for all apps (true), or for any at all. */
export function may(right: Right, app?: string | true): boolean {
  const held = person.value?.rights.find((entry) => entry.right === right)
  if (!held) return false
  if (app === undefined || held.apps === null || held.apps === undefined) return true
  return app !== true && held.apps.includes(app)
}
