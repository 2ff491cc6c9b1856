// Small manifests and targets for tests of restore plans.
import type { DatabaseManifest, SequenceState, TableManifest, TableStructure } from '../../core/content/manifest'
import { pathOf } from '../../core/things/thing'
import type { PlanInput } from '../../core/restore/plan'
import { wishOf, type Wish } from '../../core/restore/wish'
import type { TargetState, TargetTable } from '../../core/restore/target'
import { thingKey } from '../../core/restore/sql'
import { CATALOG, type StructureEntry } from '../../core/restore/structure'

export function structure(over: Partial<TableStructure> = {}): TableStructure {
  return {
    kind: 'table',
    persistence: 'permanent',
    columns: [
      { name: 'id', type: 'integer', nullable: false, default: null, generated: false, identity: null, collation: null, comment: null },
      { name: 'note', type: 'text', nullable: true, default: null, generated: false, identity: null, collation: null, comment: null },
    ],
    constraints: [],
    indexes: [],
    triggers: [],
    policies: [],
    rules: [],
    statistics: [],
    owner: 'app',
    grants: [],
    comment: null,
    rowSecurity: 'off',
    replicaIdentity: 'd',
    partitionKey: null,
    partitionOf: null,
    partitionBound: null,
    options: [],
    ...over,
  }
}

export function table(name: string, oid: number, over: Partial<TableManifest> = {}): TableManifest {
  return {
    path: pathOf('db', 'bookings', 'sales', name),
    schema: 'sales',
    name,
    oid,
    structure: structure(),
    columns: ['id', 'note'],
    key: ['id'],
    rows: 10,
    bytes: 1000,
    fingerprint: '0'.repeat(32),
    chunks: [],
    ...over,
  }
}

export function entry(id: number, type: string, name: string, over: Partial<StructureEntry> = {}): StructureEntry {
  return {
    id,
    catalog: type === 'FK CONSTRAINT' ? CATALOG.constraint : CATALOG.relation,
    oid: id,
    needs: [],
    name,
    type,
    schema: 'sales',
    owner: 'app',
    of: null,
    refers: null,
    sql: `CREATE ${type} sales.${name} ();`,
    ownerSql: null,
    ...over,
  }
}

export function manifest(over: Partial<DatabaseManifest>): DatabaseManifest {
  const base: DatabaseManifest = {
    name: 'bookings',
    encoding: 'UTF8',
    collate: 'C',
    ctype: 'C',
    position: '0/1',
    at: '2026-11-24T04:10:00Z',
    entries: [],
    tables: [],
    sequences: [] as SequenceState[],
    others: [],
    missing: [],
  }
  return { ...base, ...over }
}

export function target(over: Partial<TargetState> & { holds?: Record<string, Partial<TargetTable>> } = {}): TargetState {
  const { holds = {}, ...rest } = over
  const tables = new Map(
    Object.entries(holds).map(([name, now]): [string, TargetTable] => [
      thingKey('sales', name),
      { structure: structure(), rows: 5, bytes: 500, key: ['id'], dependents: [], mayReplace: true, referredBy: [], heldBy: [], ...now },
    ]),
  )
  return {
    exists: true,
    tables,
    types: new Map(),
    others: new Set(),
    relations: new Set(tables.keys()),
    schemas: new Set(['sales', 'public']),
    extensions: new Set(),
    roles: new Set(['app']),
    tablespaces: new Set(),
    available: new Set(),
    trusted: new Set(),
    memberOf: new Set(),
    creatable: new Set(['sales', 'public']),
    dependents: new Map(),
    largeObjects: new Set(),
    eventTriggers: [],
    sequences: new Map(),
    properties: null,
    may: { create: true, createDatabase: true, createRole: true, superuser: true, readLargeObjects: true },
    version: 15,
    free: null,
    definitions: new Map(),
    ...rest,
  }
}

export const wish = (...names: string[]): Wish => wishOf({ picks: names.map((name) => pathOf('db', 'bookings', 'sales', name)) })

/** The rest of what a plan is made from. */
export function planInput(held: DatabaseManifest, now: TargetState, wanted: Partial<Wish>): PlanInput {
  return {
    source: 'db',
    manifest: held,
    serverVersion: 150000,
    target: now,
    into: { source: 'db', database: held.name },
    wish: wishOf(wanted),
    at: new Date('2026-11-24T04:10:00Z'),
  }
}
