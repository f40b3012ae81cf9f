import { api, told } from './api'
import { useDoing } from './loading'

/** What a dossier does with stores, on each of its pages: send what differs, take over what they hold alone. */
export function useSending(app: string, load: () => Promise<void>) {
  const doing = useDoing()
  const path = { app }
  const send = (store: string | null) =>
    doing.run(async () => {
      await told(api.POST('/v1/apps/{app}/dossier/sendings', { params: { path }, body: { store } }))
      await load()
    }, store ? `What differs is sent to ${store}` : 'What differs is sent to every store')
  const takeOver = (store: string) =>
    doing.run(async () => {
      await told(api.POST('/v1/apps/{app}/dossier/take-overs', { params: { path }, body: { store } }))
      await load()
    }, `What ${store} holds is taken over`)
  return { doing, send, takeOver }
}

/** Such as ``◔ 3 texts differ from what it holds``. */
export const differs = (count: number, one: string, many: string): string => `◔ ${count} ${count === 1 ? `${one} differs` : `${many} differ`} from what it holds`

/** How much is to be put right before anything can be sent. */
export const toRight = (count: number): string => `✕ ${count === 1 ? '1 thing' : `${count} things`} to put right`
