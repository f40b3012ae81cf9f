import type { components } from './schema'
import { measured } from './telling'

type Schemas = components['schemas']
export type Goods = Schemas['GoodsTold']
export type Entered = Schemas['GoodTold']
export type Good = Entered['good']
export type StoreGoods = Schemas['StoreGoodsTold']
export type StoreGood = Schemas['StoreGoodTold']

/** What becomes of a good after someone has bought it, in words. */
export const KINDS: Record<Good['kind'], string> = {
  'used-up': 'Used up, and bought again',
  kept: 'Bought once, and kept',
  renewed: 'Renewed until it is ended',
}

/** A mark for each state of a good, so that colour is never alone. */
const MARKS: Record<StoreGood['state'], string> = {
  accepted: '✓', ordered: '◌', 'waits for the review to end': '◔', refused: '✕', 'changed since sent': '◔', complete: '◔', missing: '·',
}
const WORDS: Partial<Record<StoreGood['state'], string>> = { accepted: 'holds it as it is here', complete: 'not sent', ordered: 'sent, not confirmed yet' }

/** Where a good stands at a store, in words. */
export const standing = (one: StoreGood): string => (one.good || !one.entered ? `${MARKS[one.state]} ${WORDS[one.state] ?? one.state}` : '✕ cannot go as it is')

/** Such as ``4.50 EUR every 12 months``. */
export const priced = (good: Good): string => `${amount(good.price)} ${good.currency}${good.months ? (good.months === 1 ? ' every month' : ` every ${good.months} months`) : ''}`

/** A price with two decimals at least. */
export function amount(price: string | number): string {
  const [whole, part = ''] = String(price).split('.')
  return `${whole}.${part.replace(/0+$/, '').padEnd(2, '0')}`
}

/** How much of a text is left at the store that takes least of it; negative: so much is too much. */
export function left(text: string, stores: StoreGoods[], which: 'name_limit' | 'description_limit'): { left: number; store: string } | null {
  const each = stores.map((store) => ({ left: store.rules[which] - measured(text, store.rules.counted_in), store: store.store_title }))
  return each.sort((one, other) => one.left - other.left)[0] ?? null
}

/** A copy of a good, so that it can be changed without changing what is shown. */
export const copied = (good: Good): Good => ({ ...good, stores: [...(good.stores ?? [])], texts: Object.fromEntries(Object.entries(good.texts).map(([locale, text]) => [locale, { ...text }])) })
