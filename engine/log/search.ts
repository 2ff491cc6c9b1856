import { fieldsOf, rawFields } from '../../core/compare/rows'
import { copyText } from '../../core/content/copy-text'
import { VesselError } from '../../core/errors'
import { namesOf } from '../../core/things/thing'
import type { EngineContext } from '../context'
import { changesOf, segmentsBackwards, type LoggedChange } from './read'

export interface LogQuery {
  /** `schema.name`; null for all. */
  table: string | null
  ops: LoggedChange['op'][]
  column: string | null
  value: string | null
  xid: string | null
  /** Microseconds since 1970. */
  from: number | null
  to: number | null
  after: { segment: string; at: number; chunk: number } | null
  limit: number
}

/** A change as it is shown. */
export interface FoundChange {
  member: string
  source: string
  xid: string
  position: string
  at: number
  op: LoggedChange['op']
  table: string
  columns: string[]
  key: (string | null)[]
  /** Values; undefined where the source did not write them because they did not change. */
  old: (string | null | undefined)[] | null
  row: (string | null | undefined)[] | null
}

export interface LogFound {
  changes: FoundChange[]
  /** Where to go on backwards; null at the beginning. */
  next: LogQuery['after']
}

const CHUNKS_AT_ONCE = 60

/** Changes in the log of a vessel, the newest first. Chunks that hold nothing of the table or the time are not read. */
export async function searchLog(engine: EngineContext, vesselId: string, query: LogQuery): Promise<LogFound> {
  if (query.value !== null && query.column === null) throw columnMissing()
  const found: LogFound = { changes: [], next: null }
  let chunks = 0
  const before = query.after ? new Date(query.after.at) : query.to === null ? undefined : new Date(Math.ceil(query.to / 1000))
  const skip = query.after
  let begun = skip === null
  for await (const segment of segmentsBackwards(engine, vesselId, { before })) {
    if (!begun) {
      if (segment.id !== skip!.segment) continue
      begun = true
    }
    if (query.from !== null && segment.log.toAt * 1000 + 999 < query.from) {
      if (segment.log.toAt * 1000 < query.from) return found
      continue
    }
    const last = segment.id === skip?.segment ? skip.chunk - 1 : segment.log.chunks.length - 1
    for (let i = last; i >= 0; i--) {
      const chunk = segment.log.chunks[i]!
      if (query.to !== null && chunk.firstAt > query.to) continue
      if (query.from !== null && chunk.lastAt < query.from) continue
      const some = await changesOf(segment, chunk, {
        relation: ({ schema, name, columns }) =>
          (query.table === null || `${schema}.${name}` === query.table) && (query.column === null || columns.includes(query.column)),
        transaction: ({ xid, at }) =>
          (query.xid === null || xid === query.xid) && (query.from === null || at >= query.from) && (query.to === null || at <= query.to),
      })
      found.changes.push(
        ...some
          .filter((change) => fits(change, query))
          .reverse()
          .map(shown),
      )
      if (found.changes.length >= query.limit || ++chunks >= CHUNKS_AT_ONCE) {
        found.next = { segment: segment.id, at: segment.log.fromAt, chunk: i }
        return found
      }
    }
  }
  return found
}

function columnMissing(): VesselError {
  return new VesselError('log_column', {
    what: 'A value is looked for, and no column is chosen.',
    touched: 'Nothing was changed.',
    next: 'Choose a column of the table.',
  })
}

function fits({ op, relation, old, row }: LoggedChange, { ops, column, value }: LogQuery): boolean {
  if (ops.length > 0 && !ops.includes(op)) return false
  if (value === null) return true
  const at = relation.columns.indexOf(column!)
  const wanted = value === '' ? '' : copyText(value)
  return [old, row].some((line) => line !== null && rawFields(line, [at])[0] === wanted)
}

const valuesOf = (line: string | null) =>
  line === null ? null : line.split('\t').map((field) => (field === '\\U' ? undefined : fieldsOf(field)[0]))

function shown({ member, transaction, op, relation, old, row }: LoggedChange): FoundChange {
  const { xid, position, at } = transaction
  const line = row ?? old
  const key = line === null ? [] : relation.key.map((i) => fieldsOf(line.split('\t')[i]!)[0]!)
  return {
    member,
    source: namesOf(member)[0]!,
    xid,
    position,
    at,
    op,
    table: `${relation.schema}.${relation.name}`,
    columns: relation.columns,
    key,
    old: valuesOf(old),
    row: valuesOf(row),
  }
}
