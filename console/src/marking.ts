/** A piece of a text; ``meant``: a remark is about it. */
export interface Piece {
  said: string
  meant: boolean
}

const LETTER = /[\p{L}\p{N}]/u

/** A text cut where words begin and end that are looked for, whatever their case; letters beside them are no match. */
export function marked(text: string, words: string[]): Piece[] {
  const known = [...new Set(words)].filter(Boolean).sort((one, other) => other.length - one.length)
  if (!known.length) return [{ said: text, meant: false }]
  const found = new RegExp(known.map((word) => word.replace(/[.*+?^${}()|[\]\\]/g, '\\$&').replace(/\s+/g, '\\s+')).join('|'), 'giu')
  const pieces: Piece[] = []
  let after = 0
  for (const one of text.matchAll(found)) {
    const begin = one.index
    const end = begin + one[0].length
    const inside = (LETTER.test(one[0][0]!) && LETTER.test(text[begin - 1] ?? '')) || (LETTER.test(one[0].at(-1)!) && LETTER.test(text[end] ?? ''))
    if (inside) continue
    if (begin > after) pieces.push({ said: text.slice(after, begin), meant: false })
    pieces.push({ said: one[0], meant: true })
    after = end
  }
  if (after < text.length) pieces.push({ said: text.slice(after), meant: false })
  return pieces
}
