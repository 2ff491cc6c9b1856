import { namesOfChunks } from '../../../core/content/chunk-list'
import { bytesOf } from '../../../core/content/text'
import { createHash } from 'node:crypto'
import type pg from 'pg'
import type { TableManifest } from '../../../core/content/manifest'
import { linesOf, rawFields } from '../../../core/compare/rows'
import { copyText } from '../../../core/content/copy-text'
import { VesselError } from '../../../core/errors'
import { qualified, quoteIdentifier } from '../../../core/restore/sql'
import type { RowPick } from '../../../core/restore/wish'
import { plural } from '../../../core/time/words'
import type { Store } from '../../store/store'
import { copyIn } from './copy-in'
import { copyOut } from './copy-out'

export interface Merged {
  added: number
  changed: number
  fingerprintThen: string
  fingerprintNow: string
}

interface MergeJob {
  client: pg.Client
  store: Store
  table: TableManifest
  target: { schema: string; name: string }
  /** Only these rows; null for all that are missing. */
  pick: RowPick | null
  loaded: (rows: number, bytes: number) => void
}

/**
 * Adds rows of then whose key is missing, within the caller's transaction; of picked rows that are there, the
 * chosen columns are overwritten. What was written is read back and compared with what was to be written.
 * @throws VesselError `key_missing` when a picked row is not in the backup.
 */
export async function mergeRows(job: MergeJob): Promise<Merged> {
  const { client, table, target } = job
  const name = qualified(target.schema, target.name)
  const key = table.key!.map(quoteIdentifier)
  const columns = table.columns.map(quoteIdentifier)
  const list = columns.join(', ')
  await client.query(`create temp table uv_then on commit drop as select ${list} from only ${name} with no data`)
  await client.query(`create temp table uv_added on commit drop as select ${key.join(', ')} from only ${name} with no data`)
  await loadThen(job)
  const added = await client.query(
    `with added as (insert into ${name} (${list}) overriding system value select ${list} from pg_temp.uv_then
       on conflict (${key.join(', ')}) do nothing returning ${key.join(', ')})
     insert into pg_temp.uv_added select * from added`,
  )
  const same = (a: string, b: string) => key.map((column) => `${a}.${column}::text = ${b}.${column}::text`).join(' and ')
  const overwrite = (job.pick?.overwrite ?? []).map(quoteIdentifier)
  let changed = 0
  if (overwrite.length > 0) {
    const { rowCount } = await client.query(
      `update only ${name} t set ${overwrite.map((column) => `${column} = n.${column}`).join(', ')} from pg_temp.uv_then n
       where ${same('t', 'n')} and not exists (select from pg_temp.uv_added a where ${same('a', 'n')})`,
    )
    changed = rowCount ?? 0
  }
  const side = async (from: string, alias: string) => {
    const of = (what: string[], not: string) =>
      tallyOf(
        client,
        `copy (select ${what.map((column) => `${alias}.${column}`).join(', ')} from ${from} ${alias}
         where ${not} exists (select from pg_temp.uv_added a where ${same('a', alias)})
           and exists (select from pg_temp.uv_then n where ${same('n', alias)})) to stdout`,
      )
    const fresh = await of(columns, '')
    return overwrite.length === 0 ? fresh : combined(fresh, await of([...new Set([...key, ...overwrite])], 'not'))
  }
  const result = { fingerprintThen: await side('pg_temp.uv_then', 't'), fingerprintNow: await side(`only ${name}`, 't') }
  await client.query('drop table pg_temp.uv_then, pg_temp.uv_added')
  return { added: added.rowCount ?? 0, changed, ...result }
}

const combined = (a: string, b: string) => createHash('sha256').update(`${a} ${b}`).digest('hex').slice(0, 32)

const tallyOf = async (client: pg.Client, statement: string) => (await copyOut(client, statement, {}, async () => undefined)).fingerprint

async function loadThen({ client, store, table, pick, loaded }: MergeJob): Promise<void> {
  const into = { schema: 'pg_temp', name: 'uv_then' }
  const all = store.readAll(namesOfChunks(chunksFor(table, pick)))
  if (!pick) {
    await copyIn(client, into, table.columns, all, (bytes, i) => loaded(table.chunks.at(i)!.rows, bytes))
    return
  }
  const wanted = new Set(pick.keys.map((key) => key.map(copyText).join('\t')))
  const found = new Set<string>()
  const at = table.key!.map((column) => table.columns.indexOf(column))
  await copyIn(client, into, table.columns, picked(all, at, wanted, found), (bytes) => loaded(1, bytes))
  const missing = wanted.size - found.size
  if (missing === 0) return
  throw new VesselError('key_missing', {
    what: `${plural(missing, 'picked row')} of ${table.schema}.${table.name} ${missing === 1 ? 'is' : 'are'} not in this point, such as ${[...wanted].find((key) => !found.has(key))!.replaceAll('\t', ', ')}.`,
    touched: 'The transaction was rolled back: no row was changed.',
    next: 'Look at the rows of this point, and pick among them.',
  })
}

/** Chunks that may hold picked rows; all of them where keys are not of a single integer column. */
function chunksFor(table: TableManifest, pick: RowPick | null): TableManifest['chunks'] {
  if (!pick || table.chunks.some((chunk) => chunk.keys === null)) return table.chunks
  const keys = pick.keys.flatMap(([key]) => (/^-?\d+$/.test(key ?? '') ? [BigInt(key!)] : []))
  return table.chunks.filter(({ keys: range }) => keys.some((key) => key >= BigInt(range![0]) && key <= BigInt(range![1])))
}

async function* picked(
  chunks: AsyncIterable<Uint8Array>,
  at: number[],
  wanted: Set<string>,
  found: Set<string>,
): AsyncGenerator<Uint8Array> {
  for await (const chunk of chunks) {
    for (const line of linesOf([chunk])) {
      const key = rawFields(line, at).join('\t')
      if (!wanted.has(key)) continue
      found.add(key)
      yield bytesOf(`${line}\n`)
    }
  }
}
