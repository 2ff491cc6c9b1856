import { projectionOf, type Projection } from '../../core/changes/columns'
import { OP, scanLog, type LogRelation, type ChangeTally } from '../../core/changes/log-text'
import type { LogManifest, NetManifest, NetTable } from '../../core/changes/manifest'
import { project } from '../../core/changes/fields'
import { NetChanges, type NetRecord } from '../../core/changes/net'
import { positionOf } from '../../core/chain/position'
import type { TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import type { Store } from '../store/store'

/** What leads from the rows of a table at one position to those at another. */
export interface LogRange {
  nets: NetManifest[]
  logs: LogManifest[]
  /** Transactions that end after this position, up to that one. */
  from: string
  to: string
}

const tooMuch = (table: TableManifest) =>
  new VesselError('too_many_changes', {
    what: `${table.schema}.${table.name} changed so often since its last full that its changes do not fit into memory.`,
    touched: 'Nothing was changed.',
    next: 'Make a differential or a synthetic full of this vessel first, then choose this moment again.',
  })

const unknownColumns = (table: { schema: string; name: string }) =>
  new VesselError('columns_unknown', {
    what: `Which columns rows of ${table.schema}.${table.name} had for a moment is not known: its structure was changed several times within a second.`,
    touched: 'Nothing was changed.',
    next: 'Choose a moment before that, or after the next differential.',
  })

/** How many rows of a table were inserted, updated, deleted, and how often it was emptied, as far as whole chunks tell. */
export function tallyOf(oid: number, { logs, from, to }: LogRange): ChangeTally {
  const sum: ChangeTally = [0, 0, 0, 0]
  for (const log of logs) {
    const relations = relationsOf(log, oid)
    if (relations.size === 0) continue
    for (const chunk of log.chunks) {
      if (!liesWithin(chunk, from, to)) continue
      for (const index of relations) chunk.tallies[index]?.forEach((count, i) => (sum[i]! += count))
    }
  }
  return sum
}

const relationsOf = (log: LogManifest, oid: number): Set<number> =>
  new Set(log.relations.flatMap((relation, i) => (relation.oid === oid ? [i] : [])))

const liesWithin = (chunk: { from: string; to: string; open: unknown }, from: string, to: string): boolean =>
  positionOf(chunk.from)! < positionOf(to)! && (positionOf(chunk.to)! > positionOf(from)! || chunk.from === chunk.to)

/** The net changes of one table over a stretch, with the columns that the table has at its end. Null when there are none. */
export async function gather(store: Store, table: TableManifest, stretch: LogRange): Promise<NetChanges | null> {
  const gathering = new Gathering(store, table)
  try {
    for (const net of stretch.nets) {
      const change = net.changed.find(({ oid }) => oid === table.oid)
      if (change) await gathering.net(change)
    }
    for (const log of stretch.logs) await gathering.log(log, stretch.from, stretch.to)
  } catch (error) {
    if (error instanceof RangeError) throw tooMuch(table)
    throw error
  }
  return gathering.changes
}

class Gathering {
  changes: NetChanges | null = null

  constructor(
    private readonly store: Store,
    private readonly table: TableManifest,
  ) {}

  private begin(key: number[]): NetChanges {
    const at = key.map((number) => this.table.numbers!.indexOf(number))
    if (at.length === 0 || at.includes(-1)) throw unknownColumns(this.table)
    return (this.changes ??= new NetChanges(at))
  }

  async net(table: NetTable): Promise<void> {
    const changes = this.begin(table.key)
    if (table.emptied) changes.truncate()
    const chunks: Uint8Array[] = []
    for await (const bytes of this.store.readAll(table.chunks)) chunks.push(bytes)
    const toTable = projectionOf(table.numbers, this.table.numbers!, this.table.fills ?? [])
    const key = table.key.map((number) => table.numbers.indexOf(number))
    changes.takeNet(() => netRecordsOf(chunks, toTable, key))
  }

  async log(log: LogManifest, from: string, to: string): Promise<void> {
    const relations = relationsOf(log, this.table.oid)
    if (relations.size === 0) return
    const chunks = log.chunks.filter((chunk) => liesWithin(chunk, from, to) && [...relations].some((index) => chunk.tallies[index]))
    let i = 0
    for await (const bytes of this.store.readAll(chunks.map(({ name }) => name)))
      this.chunk(bytes, chunks[i++]!.open?.position ?? null, log.relations, relations, [positionOf(from)!, positionOf(to)!])
  }

  private chunk(
    bytes: Uint8Array,
    open: string | null,
    relations: LogRelation[],
    ofTable: Set<number>,
    [from, to]: [bigint, bigint],
  ): void {
    const within = (position: string) => positionOf(position)! >= from && positionOf(position)! < to
    let counts = open !== null && within(open)
    let old: Uint8Array | null = null
    const projections = new Map<number, Projection | null>()
    for (const index of ofTable) {
      const { numbers } = relations[index]!
      if (numbers) projections.set(index, projectionOf(numbers, this.table.numbers!, this.table.fills ?? []))
    }
    const lineOf = (relation: number, start: number, end: number) => {
      const projection = projections.get(relation)
      if (projection === undefined) throw unknownColumns(this.table)
      const line = bytes.subarray(start, end)
      return projection ? project(line, projection) : line
    }
    const changesOf = (relation: number) => {
      const { key, numbers } = relations[relation]!
      if (!numbers) throw unknownColumns(this.table)
      return this.begin(key.map((at) => numbers[at]!))
    }
    scanLog(bytes, {
      begin: ({ position }) => void (counts = within(position)),
      change: (op, relation, start, end) => {
        if (!counts || !ofTable.has(relation)) return
        if (op === OP.oldKey || op === OP.oldRow) old = lineOf(relation, start, end)
        else {
          changesOf(relation).take(op === OP.deleteRow ? OP.deleteKey : op, lineOf(relation, start, end), op === OP.update ? old : null)
          old = null
        }
      },
      truncate: (emptied) => {
        if (counts) for (const relation of emptied) if (ofTable.has(relation)) changesOf(relation).truncate()
      },
    })
  }
}

/** The records of a differential: `d` for a row that is gone, `k` and `U` for one that has become another, `I` for a new one. */
function* netRecordsOf(chunks: Uint8Array[], projection: Projection | null, key: number[]): Generator<NetRecord> {
  for (const bytes of chunks) {
    const records: NetRecord[] = []
    let before: Uint8Array | null = null
    scanLog(bytes, {
      change: (op, _, start, end) => {
        const line = bytes.subarray(start, end)
        if (op === OP.deleteKey) records.push({ before: line, line: null })
        else if (op === OP.oldKey) before = line
        else {
          records.push({
            before: op === OP.update ? (before ?? keyFields(line, key)) : null,
            line: projection ? project(line, projection) : line,
          })
          before = null
        }
      },
    })
    yield* records
  }
}

const keyFields = (line: Uint8Array, key: number[]) => project(line, { at: key, fill: [] })
