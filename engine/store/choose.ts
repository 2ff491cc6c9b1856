import type { PackLife } from './collect'
import { PACK_BYTES } from './pack'

/** A pack of which less than this share is alive is put together with others. */
export const LIVE_SHARE = 0.6
/** A pack that is smaller is put together with others, once there are enough of them. */
const SMALL_BYTES = PACK_BYTES / 8
const SMALL_AT_LEAST = 16

/** Which packs are to go: those without anything alive, and those whose living content is put into others. */
export interface Chosen {
  dead: PackLife[]
  moved: PackLife[]
}

/** What of it can't be read stays where it is: it may be read again some day. */
export function choosePacks(packs: PackLife[]): Chosen {
  const dead = packs.filter(({ live }) => live === 0)
  const living = packs.filter(({ live, isDamaged }) => live > 0 && !isDamaged)
  const sparse = living.filter(({ bytes, liveBytes }) => liveBytes < bytes * LIVE_SHARE)
  const small = living.filter((pack) => pack.bytes < SMALL_BYTES && !sparse.includes(pack))
  return { dead, moved: small.length >= SMALL_AT_LEAST ? [...sparse, ...small] : sparse }
}

/** Packs whose living content makes one new pack. */
export function groupsOf(packs: PackLife[]): PackLife[][] {
  const groups: PackLife[][] = []
  let bytes = Infinity
  for (const pack of packs) {
    if (bytes + pack.liveBytes > PACK_BYTES) {
      groups.push([])
      bytes = 0
    }
    groups.at(-1)!.push(pack)
    bytes += pack.liveBytes
  }
  return groups
}
