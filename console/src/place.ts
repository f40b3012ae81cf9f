/** Where a page stands whose address does not say it: the app it is about, the list it came from, and its own name. */
import { ref } from 'vue'

export interface Place {
  app: string
  list: string
  said: string
}

export const place = ref<Place | null>(null)
