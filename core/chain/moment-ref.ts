import { positionOf } from './position'

/**
 * A moment of a vessel as it stands in an address: a time in microseconds since 1970, to which every transaction
 * belongs that was committed until then, or a position in the log of one source. A source that was put back to an
 * earlier state has positions twice; then the time `near` it tells which one is meant.
 */
export type MomentRef = { slug: string; micros: number } | { slug: string; source: string; position: string; near: number | null }

const FORM = /^([a-z0-9-]+)~(?:t(\d{1,17})|p([0-9a-f]{1,8})-([0-9a-f]{1,8})(?:@(\d{1,17}))?~(.+))$/i

export const refAtTime = (slug: string, micros: number) => `${slug}~t${micros}`
/** `near` is in microseconds since 1970. */
export const refAtPosition = (slug: string, source: string, position: string, near: number | null = null) =>
  `${slug}~p${position.replace('/', '-')}${near === null ? '' : `@${near}`}~${source}`

/** Reads what `refAtTime` and `refAtPosition` write; undefined for any other text, such as the id of a point. */
export function readRef(text: string): MomentRef | undefined {
  const match = FORM.exec(text)
  if (!match) return undefined
  const [, slug, micros, high, low, near, source] = match
  if (micros !== undefined) return { slug: slug!, micros: Number(micros) }
  const position = `${high}/${low}`.toUpperCase()
  return positionOf(position) === undefined
    ? undefined
    : { slug: slug!, source: source!, position, near: near === undefined ? null : Number(near) }
}
