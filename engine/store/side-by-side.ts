import type { ChunkPlace } from './index'

/** A chunk that is to be read, with where it lies if that is known. */
export interface Placed {
  name: string
  place: ChunkPlace | undefined
}

/** Chunks from this size on are worth a read of their own. */
const SMALL = 256 * 1024
/** What is read at once is kept for nobody yet, so there is not too much of it. */
const TOGETHER = { bytes: 1024 * 1024, chunks: 64 } as const

const isSmall = ({ place }: Placed) => place !== undefined && place.base === null && place.plainLength < SMALL

/** Cuts chunks, in their order, into those that can be read at once: small ones that lie side by side in a pack. */
export function* sideBySide(all: Iterable<Placed>): Generator<Placed[]> {
  let group: Placed[] = []
  let bytes = 0
  for (const placed of all) {
    const last = group.at(-1)?.place
    const fits =
      last !== undefined &&
      isSmall(placed) &&
      placed.place!.pack === last.pack &&
      placed.place!.position === last.position + last.length &&
      group.length < TOGETHER.chunks &&
      bytes + placed.place!.plainLength <= TOGETHER.bytes
    if (group.length > 0 && !(fits && isSmall(group[0]!))) {
      yield group
      group = []
      bytes = 0
    }
    group.push(placed)
    bytes += placed.place?.plainLength ?? 0
  }
  if (group.length > 0) yield group
}
