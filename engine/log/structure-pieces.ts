import type { LogManifest, StructurePiece, StructureStep } from '../../core/changes/manifest'
import { scanLog } from '../../core/changes/log-text'
import { positionOf } from '../../core/chain/position'
import type { DatabaseManifest } from '../../core/content/manifest'

// Structures that were read while a log was followed, where they belong in it, and what is known between them.

export type ReadChunk = (name: string) => Promise<Uint8Array>
export type Read = (names: string[]) => Promise<DatabaseManifest>

/** A structure that was read, and from where on it holds. */
export interface Piece {
  exact: bigint
  /** All that was changed up to here shows in it; without a trigger it was read before the place to which it belongs. */
  covers: bigint
  /** Where the source does not tell where it changed: nothing had changed up to here. */
  from: bigint | null
  read: () => Promise<DatabaseManifest>
}

/** How many segments after a moment are looked into for the structure that was read after it. */
export const LOOK_AHEAD = 40

/** Logs that were written before steps were told say of each structure only from where on it may be used. */
const pieceOf = (log: LogManifest, piece: StructurePiece, read: Read): Piece => {
  const exact = log.steps ? piece.exact : piece.told ? piece.from : piece.read
  return {
    exact: positionOf(exact)!,
    covers: positionOf(piece.told ? exact : piece.read)!,
    from: piece.told ? null : positionOf(piece.from)!,
    read: () => read(piece.chunks),
  }
}

/** A structure that was read where it belongs. */
export const certain = (exact: bigint, read: Piece['read']): Piece => ({ exact, covers: exact, from: null, read })

export const earlier = (a: bigint, b: bigint) => (a < b ? a : b)

export const piecesOf = (logs: LogManifest[], read: Read): Piece[] =>
  logs.flatMap((log) => (log.structure ? [pieceOf(log, log.structure, read)] : []))

/** Whether a reading is of behind a position, and shows all that was changed up to it. */
export const isAfter = ({ exact, covers }: Piece, at: bigint) => exact > at && covers >= at

/** Whether a reading tells of all changes up to a position; one of a change that may lie before it does not. */
export const isBehind = (piece: Piece, at: bigint) => (piece.from === null ? isAfter(piece, at) : piece.from >= at)

export const isUpTo = (position: string | null | undefined, at: bigint) => Boolean(position) && positionOf(position!)! >= at

/** Whether it was looked at or after a position what had changed, where the source does not tell of it. */
export const isLooked = (logs: LogManifest[], at: bigint) => logs.some(({ looked }) => isUpTo(looked, at))

/** Changes of the structure behind one position, up to another. */
export const stepsBetween = (logs: LogManifest[], from: bigint, to: bigint): StructureStep[] =>
  logs.flatMap((log) => log.steps ?? []).filter(({ end }) => positionOf(end)! > from && positionOf(end)! <= to)

/** The logs that follow, up to the one that tells of the structure at a position; the first alone without a position. */
export async function untilReading(next: AsyncIterable<LogManifest>, at: bigint | null, read: Read): Promise<LogManifest[]> {
  const logs: LogManifest[] = []
  for await (const log of next) {
    logs.push(log)
    // What a source tells may be told in the middle of what it was kept from telling, which only looking finds.
    const tells = (piece: Piece) => isBehind(piece, at!) && (piece.from !== null || log.looked === undefined)
    if (at === null || isLooked([log], at) || piecesOf([log], read).some(tells)) break
  }
  return logs
}

/** The columns that tables had by the last of their rows in the log up to a position, which the source tells with rows. */
export async function columnsSeen(logs: LogManifest[], from: bigint, at: bigint, readChunk: ReadChunk): Promise<Map<number, string[]>> {
  const seen = new Map<number, string[]>()
  for (const { to, relations, chunks } of logs.filter((log) => positionOf(log.to)! > from)) {
    if (positionOf(to)! <= at) for (const { oid, columns } of relations) seen.set(oid, columns)
    else
      for (const { name, open } of chunks.filter((chunk) => positionOf(chunk.from)! < at)) {
        let counts = open !== null && positionOf(open.position)! < at
        scanLog(await readChunk(name), {
          begin: ({ position }) => void (counts = positionOf(position)! < at),
          change: (_, index) => void (counts && seen.set(relations[index]!.oid, relations[index]!.columns)),
        })
      }
  }
  return seen
}
