import { textOf } from '../content/text'
import { fieldsOf } from '../compare/rows'
import { copyText } from '../content/copy-text'

// A log is text, one record a line, fields parted by tabs and escaped as in COPY text (docs/formats.md):
//
//   B  transaction  commit position  time  origin       begin
//   I  relation  row                                    inserted
//   k  relation  row      K  relation  row              old key, or whole old row, of the update that follows
//   U  relation  row                                    updated
//   d  relation  row      D  relation  row              deleted: old key, or whole old row
//   T  flags  relation  relation …                      emptied
//   M  prefix  content                                  a message that the source wrote into its log
//   C  end position                                     commit
//
// A relation is an index into the relations of the log's manifest. Rows hold the columns of that relation in
// their order; `\U` stands for a value that the source did not write because it did not change.

export const OP = {
  begin: 66,
  insert: 73,
  oldKey: 107,
  oldRow: 75,
  update: 85,
  deleteKey: 100,
  deleteRow: 68,
  truncate: 84,
  message: 77,
  commit: 67,
} as const

/** The field of a value that is not in the record because it did not change. */
export const UNCHANGED = '\\U'

/** A table as the records of a log refer to it. Another structure of the same table is another relation. */
export interface LogRelation {
  oid: number
  schema: string
  name: string
  columns: string[]
  /** The catalog's number of each column, which stays when it is renamed; null when it could not be told. */
  numbers: number[] | null
  /** Positions of the columns that tell rows apart. */
  key: number[]
  /** Whether old rows come whole. */
  whole: boolean
}

export interface TransactionStart {
  xid: string
  /** Position of the commit. */
  position: string
  /** Commit time in microseconds since 1970. */
  at: number
  origin: string | null
}

/** Inserted, updated, deleted rows, and how often the table was emptied. */
export type ChangeTally = [inserted: number, updated: number, deleted: number, emptied: number]

export const addTally = (a: ChangeTally, b: ChangeTally): ChangeTally => [a[0] + b[0], a[1] + b[1], a[2] + b[2], a[3] + b[3]]

/** A part of a log that can be read by itself. */
export interface LogChunk {
  name: string
  bytes: number
  /** The transaction that began in an earlier chunk and goes on in this one. */
  open: TransactionStart | null
  /** End position of the last commit before the chunk, and of the last one in it. */
  from: string
  to: string
  /** Commit times in microseconds of the first and the last transaction that it holds something of. */
  firstAt: number
  lastAt: number
  transactions: number
  /** Changes by relation. */
  tallies: Record<number, ChangeTally>
}

/** A transaction that changed much. */
export interface HeavyTransaction extends TransactionStart {
  /** Position after its commit. */
  end: string
  /** Who was seen doing it, where that was seen. */
  by: { application: string; user: string } | null
  tallies: Record<number, ChangeTally>
}

/** A change of structure, as the source told it or as the catalogs showed it. */
export interface StructureChange {
  /** Position after its commit, and its time in microseconds. */
  end: string
  at: number
  xid: string | null
  tag: string
  /** What was typed, as far as it is known; cut when it is long. */
  statement: string | null
  objects: { kind: string; name: string }[]
}

export function beginLine({ xid, position, at, origin }: TransactionStart): string {
  return `B\t${xid}\t${position}\t${at}\t${copyText(origin)}\n`
}

export function parseBegin(line: string): TransactionStart {
  const [, xid, position, at, origin] = fieldsOf(line)
  return { xid: xid!, position: position!, at: Number(at), origin: origin ?? null }
}

const NEWLINE = 10
const TAB = 9

/** Called for each record of a change with the relation and where its row lies in the bytes, without the newline. */
export interface LogVisitor {
  begin?(transaction: TransactionStart): boolean | void
  change?(op: number, relation: number, from: number, to: number): void
  /** With the relations that were emptied, and the flags. */
  truncate?(relations: number[], flags: number): void
  message?(prefix: string, content: string): void
  /** Return false to stop after this transaction. */
  commit?(end: string): boolean | void
}

/** Goes over the records of a chunk. `begin` may return false to stop before that transaction. */
export function scanLog(bytes: Uint8Array, visitor: LogVisitor): boolean {
  for (let at = 0; at < bytes.length;) {
    let end = bytes.indexOf(NEWLINE, at)
    if (end < 0) end = bytes.length
    const op = bytes[at]!
    if (op === OP.begin || op === OP.commit || op === OP.truncate || op === OP.message) {
      if (!rare(op, textOf(bytes.subarray(at, end)), visitor)) return false
    } else if (visitor.change) {
      let from = at + 2
      let relation = 0
      for (let digit = bytes[from]!; digit !== TAB; digit = bytes[++from]!) relation = relation * 10 + digit - 48
      visitor.change(op, relation, from + 1, end)
    }
    at = end + 1
  }
  return true
}

function rare(op: number, line: string, visitor: LogVisitor): boolean {
  if (op === OP.begin) return visitor.begin?.(parseBegin(line)) !== false
  if (op === OP.commit) return visitor.commit?.(line.slice(2)) !== false
  const [, first, ...rest] = fieldsOf(line)
  if (op === OP.truncate) visitor.truncate?.(rest.map(Number), Number(first))
  else visitor.message?.(first!, rest[0]!)
  return true
}
