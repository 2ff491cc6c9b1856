import type pg from 'pg'
import type { ChunkRef, LargeObject, LargeObjectsManifest } from '../../../core/content/manifest'
import type { RowsTally } from '../../../core/content/rows'
import { quoteIdentifier, quoteLiteral } from '../../../core/restore/sql'
import type { Sink } from '../../store/writer'
import { copyIn } from './copy-in'
import { copyOut } from './copy-out'
import { describeLargeObjects } from './describe-database'
import { attempt, type UnrestoredPart } from './refill'

// Large objects travel as rows of object id, page and bytes, in pages as the server keeps them.

const statement = (only: number[] | null) =>
  `copy (select loid, pageno, data from pg_catalog.pg_largeobject${only ? ` where loid in (${only.join(', ') || '0'})` : ''} order by loid, pageno) to stdout`

/** Reads large objects into the store: all of the database, or those with the given numbers. */
export async function captureLargeObjects(
  client: pg.Client,
  path: string,
  writer: Sink,
  options: { only?: number[]; signal?: AbortSignal; moved: (rows: number, bytes: number, stored: number) => void },
): Promise<LargeObjectsManifest | null> {
  const objects = await describeLargeObjects(client, options.only ?? null)
  if (objects === null || objects.length === 0) return null
  const refs: Promise<ChunkRef>[] = []
  try {
    const tally = await copyOut(
      client,
      statement(options.only ?? null),
      { keyColumn: 0, signal: options.signal },
      async ({ bytes, rows, keys, tail }) => {
        const size = bytes.length
        const put = writer.put(bytes).then(({ name, stored }): ChunkRef => {
          options.moved(rows, size, stored)
          return { name, rows, bytes: size, keys: keys && [String(keys.min), String(keys.max)], tail }
        })
        put.catch(() => undefined)
        refs.push(put)
        await writer.ready()
      },
    )
    return { path, objects, ...tally, chunks: await Promise.all(refs) }
  } finally {
    await Promise.allSettled(refs)
  }
}

export interface LargeObjectsOutcome {
  before: string
  now: string
  unrestored: UnrestoredPart[]
}

/**
 * Puts large objects back within the caller's transaction and proves them. `skip` are numbers that stay as they
 * are now.
 */
export async function restoreLargeObjects(
  client: pg.Client,
  large: LargeObjectsManifest,
  chunks: AsyncIterable<Uint8Array>,
  options: { skip: Set<number>; roles: (role: string) => string | null; loaded: (bytes: number, chunk: number) => void },
): Promise<LargeObjectsOutcome> {
  const back = large.objects.filter(({ oid }) => !options.skip.has(oid))
  await client.query('create temp table uv_large (loid oid, pageno int, data bytea) on commit drop')
  await copyIn(client, { schema: 'pg_temp', name: 'uv_large' }, ['loid', 'pageno', 'data'], chunks, options.loaded)
  if (options.skip.size > 0) await client.query('delete from pg_temp.uv_large where loid::int = any ($1::int[])', [[...options.skip]])
  const earlier = await tallyOf(client, 'copy (select loid, pageno, data from pg_temp.uv_large) to stdout')
  const unrestored: UnrestoredPart[] = []
  for (const object of back) await makeObject(client, object, options.roles, unrestored)
  // The number of a page times its size is where it lies; holes between pages stay holes.
  await client.query('select lo_put(loid, pageno::bigint * 2048, data) from pg_temp.uv_large order by loid, pageno')
  const now = await tallyOf(client, statement(back.map(({ oid }) => oid)))
  return { before: earlier.fingerprint, now: now.fingerprint, unrestored }
}

const tallyOf = (client: pg.Client, copy: string): Promise<RowsTally> => copyOut(client, copy, {}, async () => undefined)

async function makeObject(
  client: pg.Client,
  object: LargeObject,
  roleOf: (role: string) => string | null,
  unrestored: UnrestoredPart[],
): Promise<void> {
  const { oid, owner, comment, grants } = object
  await client.query(`select lo_unlink(oid) from pg_catalog.pg_largeobject_metadata where oid = ${oid}`)
  await client.query(`select lo_create(${oid})`)
  const statements = [
    ...(comment === null ? [] : [`comment on large object ${oid} is ${quoteLiteral(comment)}`]),
    ...grants.flatMap(({ role, privilege, grantable }) => {
      if (role === owner) return []
      const to = role === null ? 'public' : roleOf(role)
      if (to === null) return []
      return [
        `grant ${privilege} on large object ${oid} to ${role === null ? to : quoteIdentifier(to)}${grantable ? ' with grant option' : ''}`,
      ]
    }),
    ...(roleOf(owner) === null ? [] : [`alter large object ${oid} owner to ${quoteIdentifier(roleOf(owner)!)}`]),
  ]
  for (const sql of statements) {
    const failure = await attempt(client, sql)
    if (failure) unrestored.push({ what: `large object ${oid}`, why: failure.message })
  }
}
