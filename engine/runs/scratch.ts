import { randomBytes, randomUUID } from 'node:crypto'
import type pg from 'pg'
import { errorRecord } from '../../core/errors'
import { quoteIdentifier, quoteLiteral } from '../../core/restore/sql'
import { SCRATCH_HOURS } from '../../core/restore/wish'
import { accessById, accessOf, discoverSource } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { withClient } from '../sources/postgres/connect'
import { quietly } from '../sources/postgres/event-triggers'
import { dropDatabase } from '../sources/postgres/make-database'
import type { RunContext } from './context'
import type { PlannedDatabase } from './restore-plan'

const HOUR_MS = 3_600_000

export interface Scratch {
  id: string
  role: string | null
  password: string | null
}

/** Records a scratch copy before its database is made, so that it goes even if the worker dies while making it. */
export async function beginScratch(run: RunContext, vessel: Vessel, planned: PlannedDatabase): Promise<Scratch> {
  const { access, database, target, wish } = planned
  const id = randomUUID()
  const role = target.may.createRole ? `scratch_${id.slice(0, 8)}` : null
  const password = role ? randomBytes(18).toString('base64url') : null
  const hours = wish.into.mode === 'scratch' ? wish.into.hours : SCRATCH_HOURS.default
  const now = new Date()
  await run.engine.db
    .insertInto('scratch')
    .values({
      id,
      run_id: run.id,
      vessel_id: vessel.id,
      source_id: (await accessOf(run.engine, access.name)).id,
      database,
      role,
      sealed_password: password === null ? null : run.engine.secrets.seal(password, `scratch ${id}`),
      state: 'making',
      created_at: now,
      expires_at: new Date(now.getTime() + hours * HOUR_MS),
      trouble: null,
    })
    .execute()
  return { id, role, password }
}

/** Lets the role of a scratch copy use all that is in it, and declares it ready. */
export async function finishScratch(
  run: RunContext,
  { id, role, password }: Scratch,
  { access, database, target }: PlannedDatabase,
): Promise<void> {
  if (role !== null) {
    await withClient(access, database, async (client) => {
      const name = quoteIdentifier(role)
      // Whoever looks into a scratch copy shall see all of it; only a superuser can let them past row-level security.
      const sees = target.may.superuser ? 'bypassrls' : ''
      await client.query(`create role ${name} login ${sees} password ${quoteLiteral(password!)}`)
      await client.query(`revoke all on database ${quoteIdentifier(database)} from public`)
      await client.query(`grant all on database ${quoteIdentifier(database)} to ${name}`)
      // Event triggers that came back with it belong to what is looked at, and not to us.
      await quietly(client, () => openTo(client, name))
    })
  }
  await run.engine.db.updateTable('scratch').set({ state: 'ready' }).where('id', '=', id).execute()
  await notify(run.engine.db, { about: 'scratch', id })
}

/** Gives a role every right on everything in the database. */
async function openTo(client: pg.Client, role: string): Promise<void> {
  const { rows } = await client.query<{ schema: string }>(
    `select nspname as schema from pg_catalog.pg_namespace where nspname !~ '^pg_' and nspname <> 'information_schema'`,
  )
  for (const { schema } of rows) {
    const quoted = quoteIdentifier(schema)
    await client.query(`grant all on schema ${quoted} to ${role}`)
    for (const what of ['tables', 'sequences', 'routines']) await client.query(`grant all on all ${what} in schema ${quoted} to ${role}`)
  }
}

/** Drops a scratch copy and its role now. What can't be dropped is tried again, and says why. */
export async function dropScratch(engine: EngineContext, id: string): Promise<void> {
  const row = await engine.db.selectFrom('scratch').selectAll().where('id', '=', id).where('state', '<>', 'gone').executeTakeFirst()
  if (!row) return
  try {
    const access = await accessById(engine, row.source_id)
    await withClient(access, undefined, async (client) => {
      await dropDatabase(client, row.database)
      if (row.role !== null) await client.query(`drop role if exists ${quoteIdentifier(row.role)}`)
    })
    await engine.db.updateTable('scratch').set({ state: 'gone', trouble: null, sealed_password: null }).where('id', '=', id).execute()
    await discoverSource(engine, row.source_id)
  } catch (error) {
    await engine.db
      .updateTable('scratch')
      .set({ trouble: JSON.stringify(errorRecord(error)) })
      .where('id', '=', id)
      .execute()
  }
  await notify(engine.db, { about: 'scratch', id })
}

/** Drops scratch copies whose time is over, and those whose restore ended without finishing them. */
export async function dropExpired(engine: EngineContext): Promise<void> {
  const due = await engine.db
    .selectFrom('scratch')
    .innerJoin('run', 'run.id', 'scratch.run_id')
    .select('scratch.id')
    .where('scratch.state', '<>', 'gone')
    .where((eb) =>
      eb.or([
        eb('scratch.expires_at', '<=', new Date()),
        eb.and([eb('scratch.state', '=', 'making'), eb('run.state', 'in', ['done', 'warned', 'failed', 'cancelled'])]),
      ]),
    )
    .execute()
  for (const { id } of due) await dropScratch(engine, id)
}
