/** What a person wishes to see of a list, remembered in the page's address, so that it can be shared and comes back. */
import { reactive, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** Words by their name in the address; what is as given here is left out of it. */
export function inAddress<Wish extends Record<string, string>>(usual: Wish): Wish {
  const route = useRoute()
  const router = useRouter()
  const wish = reactive({ ...usual }) as Wish
  for (const name of Object.keys(usual) as (keyof Wish & string)[]) {
    const given = route.query[name]
    if (typeof given === 'string') wish[name] = given as Wish[typeof name]
  }
  const path = route.path
  watch(
    () => route.query,
    (query) => {
      if (route.path !== path) return
      for (const name of Object.keys(usual) as (keyof Wish & string)[]) {
        const given = query[name]
        wish[name] = (typeof given === 'string' ? given : usual[name]) as Wish[typeof name]
      }
    },
  )
  watch(wish, () => {
    if (route.path !== path) return
    const query = { ...route.query }
    for (const [name, value] of Object.entries(wish)) {
      if (value === usual[name]) delete query[name]
      else query[name] = value
    }
    if (JSON.stringify(query) !== JSON.stringify(route.query)) void router.replace({ query })
  })
  return wish
}
