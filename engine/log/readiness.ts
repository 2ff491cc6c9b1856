import { logOf, type VesselDefinition } from '../../core/plan/definition'
import { logFullAt, type LogFull } from '../../core/plan/fill'
import { errorRecord } from '../../core/errors'
import { takesFrom } from '../../core/selection/rules'
import { quoteIdentifier } from '../../core/restore/sql'
import { namesOf, pathOf } from '../../core/things/thing'
import { accessOf } from '../catalog/sources'
import type { EngineContext } from '../context'
import { withClient } from '../sources/postgres/connect'
import { eventTriggersOf, type EventTrigger } from '../sources/postgres/event-triggers'
import { hasTrigger, identities, installStatements, removeStatements } from '../sources/postgres/log/install'
import { slotState } from '../sources/postgres/log/slot'
import { nameAtSource } from './names'
import { takesTable } from './structure'

/** Something that stands in the way of following a log, and what mends it. */
export interface LogObstacle {
  what: string
  mend: string
  /** Whether the log can't be followed at all with it. */
  stops: boolean
}

/** Whether every moment of a member could be entered, and what is missing for it. */
export interface MemberReadiness {
  member: string
  obstacles: LogObstacle[]
  /** Tables whose changes would be in no log. */
  unfollowed: { name: string; why: string; mend: string | null }[]
  followed: number
  /** Exactly what is put onto the source, and what takes it away again. */
  statements: string[]
  removal: string[]
  /** Bytes of log that the source keeps for it now; null while it is not followed. */
  retained: number | null
  /** When that is too much at the present rate; null while it does not grow. */
  full: LogFull | null
  /** Whether the trigger that notes changes of structure is there already. */
  trigger: boolean
}

/** What is known before the hour of need, for every database that a definition takes something of. */
export async function readinessOf(
  engine: EngineContext,
  vesselId: string | null,
  definition: Pick<VesselDefinition, 'rules' | 'log'>,
): Promise<MemberReadiness[]> {
  const databases = await engine.db
    .selectFrom('thing')
    .select('path')
    .where('kind', '=', 'database')
    .where('gone_at', 'is', null)
    .orderBy('path')
    .execute()
  const wanted = databases
    .map(({ path }) => namesOf(path) as [string, string])
    .filter(([source, database]) => takesFrom(definition.rules, source, database))
  return Promise.all(wanted.map(([source, database]) => memberReadiness(engine, vesselId, definition, source, database)))
}

async function logFullOf({ db }: EngineContext, vesselId: string, member: string, keepAtMost: number): Promise<LogFull | null> {
  const row = await db
    .selectFrom('follower')
    .select(['measured', 'log_free'])
    .where('vessel_id', '=', vesselId)
    .where('member', '=', member)
    .executeTakeFirst()
  return row ? logFullAt(row.measured, row.log_free === null ? null : Number(row.log_free), keepAtMost) : null
}

async function memberReadiness(
  engine: EngineContext,
  vesselId: string | null,
  definition: Pick<VesselDefinition, 'rules' | 'log'>,
  source: string,
  database: string,
): Promise<MemberReadiness> {
  const member = pathOf(source, database)
  const name = nameAtSource(vesselId ?? 'new', member)
  const names = { slot: name, publication: name }
  const result: MemberReadiness = {
    member,
    obstacles: [],
    unfollowed: [],
    followed: 0,
    statements: [],
    removal: removeStatements(names),
    retained: null,
    full: null,
    trigger: false,
  }
  const plan = logOf({ ...definition, store: '', promises: { couldLose: null, backWithin: null }, readers: 1 })
  const withTrigger = plan.structure === 'trigger'
  try {
    const access = await accessOf(engine, source)
    await withClient(access, database, async (client) => {
      const { rows } = await client.query<{
        level: string
        replication: boolean
        super: boolean
        free: number
        senders: number
        owned: boolean
        user: string
        keep: string
      }>(
        `select current_setting('wal_level') as level, r.rolsuper or r.rolreplication as replication, r.rolsuper as super, r.rolname as user,
           current_setting('max_slot_wal_keep_size') as keep,
           current_setting('max_replication_slots')::int - (select count(*)::int from pg_catalog.pg_replication_slots where slot_name <> $1) as free,
           current_setting('max_wal_senders')::int - (select count(*)::int from pg_catalog.pg_stat_replication
             where pid is distinct from (select active_pid from pg_catalog.pg_replication_slots where slot_name = $1)) as senders,
           r.rolsuper or has_database_privilege(current_database(), 'create') as owned
         from pg_catalog.pg_roles r where r.rolname = current_user`,
        [name],
      )
      result.obstacles = obstaclesOf(source, rows[0]!, withTrigger)
      if (withTrigger) result.obstacles.push(...loudOf(await eventTriggersOf(client)))
      result.trigger = await hasTrigger(client)
      result.retained = (await slotState(client, name))?.retained ?? null
      result.full = vesselId === null ? null : await logFullOf(engine, vesselId, member, plan.keepAtMost)
      const tables = (await identities(client)).filter((table) =>
        takesTable(definition.rules, pathOf(source, database, table.schema, table.name)),
      )
      result.unfollowed = tables.flatMap(({ schema, name: table, trouble, mend }) =>
        trouble === null ? [] : [{ name: `${schema}.${table}`, why: trouble, mend }],
      )
      const followed = tables.filter(({ trouble }) => trouble === null)
      result.followed = followed.length
      result.statements = installStatements(names, followed, withTrigger)
    })
  } catch (error) {
    const { what, next } = errorRecord(error)
    result.obstacles.push({ what, mend: next, stops: true })
  }
  return result
}

/** Event triggers of the application that nothing keeps from seeing what ours does in a transaction of theirs. */
function loudOf(triggers: EventTrigger[]): LogObstacle[] {
  const loud = triggers.filter(({ enabled }) => enabled !== 'O').map(({ name }) => name)
  if (loud.length === 0) return []
  return [
    {
      what: `Event triggers that are set to fire always will also fire for ALTER PUBLICATION, when a table is made that is to be followed: ${loud.join(', ')}.`,
      mend: loud.map((name) => `ALTER EVENT TRIGGER ${quoteIdentifier(name)} ENABLE;`).join('\n'),
      stops: false,
    },
  ]
}

function obstaclesOf(
  source: string,
  facts: { level: string; replication: boolean; super: boolean; free: number; senders: number; owned: boolean; user: string },
  trigger: boolean,
): LogObstacle[] {
  const obstacles: LogObstacle[] = []
  const { level, replication, free, senders, owned, user } = facts
  if (level !== 'logical')
    obstacles.push({
      what: `wal_level of ${source} is ${level}; a log that can be followed needs logical.`,
      mend: `ALTER SYSTEM SET wal_level = 'logical';  -- then restart the server`,
      stops: true,
    })
  if (!replication) obstacles.push({ what: `${user} may not replicate.`, mend: `ALTER ROLE "${user}" REPLICATION;`, stops: true })
  if (free <= 0)
    obstacles.push({
      what: `${source} has no replication slot left.`,
      mend: `ALTER SYSTEM SET max_replication_slots = 20;  -- then restart the server`,
      stops: true,
    })
  if (senders <= 0)
    obstacles.push({
      what: `${source} has no connection left for another follower of its log.`,
      mend: `ALTER SYSTEM SET max_wal_senders = 20;  -- then restart the server`,
      stops: true,
    })
  if (!owned)
    obstacles.push({
      what: `${user} may not make a publication in this database.`,
      mend: `GRANT CREATE ON DATABASE … TO "${user}";`,
      stops: true,
    })
  if (trigger && !facts.super)
    obstacles.push({
      what: `${user} is no superuser, who alone may install the trigger that notes changes of structure.`,
      mend: 'Choose to compare the catalogs instead.',
      stops: true,
    })
  if (!trigger)
    obstacles.push({
      what: 'Without the trigger a change of structure is noticed within a second, not at once. If a key is dropped from a table, its updates are refused for that second, and a followed table can’t be made unlogged; a new table is whole only with the next differential.',
      mend: 'Use the trigger where it may be installed.',
      stops: false,
    })
  return obstacles
}
