import { randomUUID } from 'node:crypto'
import type pg from 'pg'
import { withClient, type PostgresAccess } from '../connect'
import { connectReplication } from './stream'

/** A snapshot of the source, at a position of which exactly the earlier transactions are in it. Valid until it is closed. */
export interface ExactSnapshot {
  snapshot: string
  position: string
  close(): Promise<void>
}

/**
 * Makes a slot together with a snapshot that shows exactly what the log does not: a lasting one by that name, or one
 * that goes with the connection. It waits for transactions that are at work, `patience` milliseconds at most.
 */
export async function snapshotWithSlot(
  access: PostgresAccess,
  database: string,
  slot: string | null,
  patience: number,
): Promise<ExactSnapshot> {
  const client = await connectReplication(access, database)
  const name = slot ?? `unbroken_vessel_once_${randomUUID().replaceAll('-', '').slice(0, 12)}`
  try {
    await client.query(`set statement_timeout = ${Math.round(patience)}; set lock_timeout = ${Math.round(patience)}`)
    const { rows } = await client.query<{ consistent_point: string; snapshot_name: string }>(
      `CREATE_REPLICATION_SLOT "${name}"${slot ? '' : ' TEMPORARY'} LOGICAL pgoutput EXPORT_SNAPSHOT`,
    )
    return { snapshot: rows[0]!.snapshot_name, position: rows[0]!.consistent_point, close: () => client.end().catch(() => undefined) }
  } catch (error) {
    await client.end().catch(() => undefined)
    // A slot that was begun and did not come to its end must not hold the source's log back.
    if (slot) await dropSlot(access, database, slot).catch(() => undefined)
    throw error
  }
}

export interface SlotState {
  /** Bytes of log that the source keeps for it. */
  retained: number
  /** Bytes that the source has written and we have not confirmed. */
  behind: number
  active: boolean
  lost: boolean
  confirmed: string
}

/** A slot as the source sees it; null when there is none of that name. */
export async function slotState(client: pg.Client, slot: string): Promise<SlotState | null> {
  const { rows } = await client.query<{
    retained: string | null
    behind: string | null
    active: boolean
    lost: boolean
    confirmed: string
  }>(
    `select pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::text as retained,
       pg_wal_lsn_diff(pg_current_wal_lsn(), confirmed_flush_lsn)::text as behind, active,
       coalesce(wal_status = 'lost', false) as lost, confirmed_flush_lsn::text as confirmed
     from pg_catalog.pg_replication_slots where slot_name = $1`,
    [slot],
  )
  const row = rows[0]
  return row ? { ...row, retained: Number(row.retained ?? 0), behind: Number(row.behind ?? 0) } : null
}

/** Drops a slot, after whoever reads it has been sent away. Nothing happens where there is none. */
export async function dropSlot(access: PostgresAccess, database: string, slot: string): Promise<void> {
  await withClient(access, database, async (client) => {
    const { rows } = await client.query<{ pid: number | null }>(
      `select active_pid as pid from pg_catalog.pg_replication_slots where slot_name = $1`,
      [slot],
    )
    if (rows.length === 0) return
    if (rows[0]!.pid) await client.query('select pg_terminate_backend($1, 5000)', [rows[0]!.pid])
    await client.query(`select pg_drop_replication_slot(slot_name) from pg_catalog.pg_replication_slots where slot_name = $1`, [slot])
  })
}

/** Ends whoever still reads a slot: a worker that has lost it and does not know, or its connection that nobody closed. */
export async function freeSlot(access: PostgresAccess, database: string, slot: string): Promise<void> {
  await withClient(access, database, (client) =>
    client.query('select pg_terminate_backend(active_pid, 5000) from pg_catalog.pg_replication_slots where slot_name = $1 and active', [
      slot,
    ]),
  )
}

export interface ServerPlace {
  systemId: string
  timeline: number
  position: string
}

/** Which history of which server this is, and where it stands. */
export async function placeOfServer(access: PostgresAccess, database: string): Promise<ServerPlace> {
  const client = await connectReplication(access, database)
  try {
    const { rows } = await client.query<{ systemid: string; timeline: number; xlogpos: string }>('IDENTIFY_SYSTEM')
    return { systemId: rows[0]!.systemid, timeline: rows[0]!.timeline, position: rows[0]!.xlogpos }
  } finally {
    await client.end().catch(() => undefined)
  }
}
