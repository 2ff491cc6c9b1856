// Text of sources, as strings. A database may hold bytes that are no text at all (its encoding is SQL_ASCII then): each of
// these is a lone surrogate, which no text has, so that nothing is another thing in a string than it was in bytes.

const strict = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })
const encoder = new TextEncoder()

const FIRST = 0xdc00
const STRAY = /[\udc80-\udcff]/
/** Lone ones only: those that follow a high surrogate are half of a character. */
const STRAYS = /(?<![\ud800-\udbff])[\udc80-\udcff]/g

/** Bytes as a string, from which `bytesOf` makes the same bytes. */
export function textOf(bytes: Uint8Array): string {
  try {
    return strict.decode(bytes)
  } catch {
    return [...partsOf(bytes)].join('')
  }
}

function* partsOf(bytes: Uint8Array): Generator<string> {
  for (let at = 0; at < bytes.length;) {
    const length = lengthOfCharacter(bytes, at)
    yield length > 0 ? strict.decode(bytes.subarray(at, at + length)) : String.fromCharCode(FIRST + bytes[at]!)
    at += Math.max(1, length)
  }
}

/** How many bytes the character that begins there has; 0 where none does. */
function lengthOfCharacter(bytes: Uint8Array, at: number): number {
  const first = bytes[at]!
  const length = first < 0x80 ? 1 : first < 0xc2 ? 0 : first < 0xe0 ? 2 : first < 0xf0 ? 3 : first < 0xf5 ? 4 : 0
  if (length === 0 || at + length > bytes.length) return 0
  try {
    strict.decode(bytes.subarray(at, at + length))
    return length
  } catch {
    return 0
  }
}

/** Whether a string stands for bytes that are no text. */
export const hasStrays = (text: string): boolean => STRAY.test(text) && text.search(STRAYS) >= 0

/** The counterpart of `textOf`. */
export function bytesOf(text: string): Uint8Array<ArrayBuffer> {
  if (!hasStrays(text)) return encoder.encode(text)
  const parts: Uint8Array[] = []
  let from = 0
  for (const { index } of text.matchAll(STRAYS)) {
    parts.push(encoder.encode(text.slice(from, index)), Uint8Array.of(text.charCodeAt(index) - FIRST))
    from = index + 1
  }
  parts.push(encoder.encode(text.slice(from)))
  const bytes = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0))
  let at = 0
  for (const part of parts) {
    bytes.set(part, at)
    at += part.length
  }
  return bytes
}
