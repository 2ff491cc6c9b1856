import { sql, type Kysely } from 'kysely'

/** What audits of logs found, table by table; and tables whose structure changed and which are to be audited. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table log_audit (vessel_id uuid not null references vessel, member text not null, era text not null, oid bigint not null,
    name text not null, position text not null, at timestamptz not null, equal boolean not null, rows bigint not null,
    expected text not null, found text not null, run_id uuid not null)`.execute(db)
  await sql`create index log_audit_table on log_audit (vessel_id, member, oid, at)`.execute(db)
  await sql`create table audit_due (vessel_id uuid not null references vessel, member text not null, oid bigint not null, since timestamptz not null,
    primary key (vessel_id, member, oid))`.execute(db)
}
