import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import type { Vessel } from '../../engine/catalog/vessels'
import { testServer, Workbench } from './engine'

// A database with everything that CREATE and ALTER can make, and how one such database is told from another. The
// oracles are not ours: the server's own dump, and its catalogs, in which every object is told by name.

const FOLDER = join(import.meta.dirname, 'breadth')
export const BREADTH = readdirSync(FOLDER)
  .sort()
  .map((file) => readFileSync(join(FOLDER, file), 'utf8'))
  .join('\n')

/** Objects of the schemas that people make; what has a number of its own in its name is told by what it belongs to. */
const OURS = `n.nspname !~ '^pg_' and n.nspname <> 'information_schema'`
const object = (prefix: string) =>
  `(select format('%s %s', type, identity) from pg_identify_object(${prefix}classid, ${prefix}objid, ${prefix}objsubid))`
/** Rights, with those that are usual told as such. */
const acl = (column: string, kind: string, owner: string) =>
  `(select array_agg(a::text order by a::text) from unnest(coalesce(${column}, acldefault(${kind}, ${owner}))) a)`

const CATALOGS: Record<string, string> = {
  relations: `select n.nspname, c.relname, c.relkind, c.relpersistence, c.relowner::regrole, ${acl('c.relacl', `case c.relkind when 'S' then 's' else 'r' end::"char"`, 'c.relowner')}, c.relreplident, c.relrowsecurity, c.relforcerowsecurity,
    (select array_agg(o order by o) from unnest(c.reloptions) o), (select amname from pg_am where oid = c.relam), c.relispopulated, pg_get_expr(c.relpartbound, c.oid), c.reloftype::regtype,
    (select array_agg(o order by o) from pg_class t, unnest(t.reloptions) o where t.oid = c.reltoastrelid) from pg_class c join pg_namespace n on n.oid = c.relnamespace where ${OURS}`,
  columns: `select c.oid::regclass, a.attname, row_number() over (partition by c.oid order by a.attnum), format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attidentity, a.attgenerated, a.attstattarget, a.attstorage,
    a.attcompression, a.attoptions, a.attfdwoptions, (select array_agg(a::text order by a::text) from unnest(a.attacl) a), a.attislocal, a.attinhcount, a.attcollation::regcollation, pg_get_expr(d.adbin, d.adrelid)
    from pg_attribute a join pg_class c on c.oid = a.attrelid join pg_namespace n on n.oid = c.relnamespace left join pg_attrdef d on d.adrelid = c.oid and d.adnum = a.attnum where ${OURS} and a.attnum > 0 and not a.attisdropped`,
  constraints: `select c.conname, c.conrelid::regclass, c.contypid::regtype, pg_get_constraintdef(c.oid), c.convalidated, c.connoinherit, c.coninhcount, c.conislocal, c.conindid::regclass, c.condeferrable
    from pg_constraint c join pg_namespace n on n.oid = c.connamespace where ${OURS}`,
  indexes: `select i.indexrelid::regclass, pg_get_indexdef(i.indexrelid), i.indisclustered, i.indisvalid, i.indisreplident, i.indimmediate, i.indnullsnotdistinct from pg_index i join pg_class c on c.oid = i.indexrelid join pg_namespace n on n.oid = c.relnamespace where ${OURS}`,
  triggers: `select tgrelid::regclass, tgname, tgenabled, pg_get_triggerdef(oid), tgparentid <> 0 from pg_trigger where not tgisinternal`,
  internal: `select tgrelid::regclass, tgfoid::regproc, tgenabled, count(*) from pg_trigger where tgisinternal group by 1, 2, 3`,
  inheritance: `select inhrelid::regclass, inhparent::regclass, inhseqno, inhdetachpending from pg_inherits`,
  rules: `select ev_class::regclass, rulename, ev_enabled, pg_get_ruledef(oid) from pg_rewrite r where oid >= 16384`,
  routines: `select p.oid::regprocedure, p.proowner::regrole, ${acl('p.proacl', `'f'`, 'p.proowner')}, case when p.prokind <> 'a' then pg_get_functiondef(p.oid) end from pg_proc p join pg_namespace n on n.oid = p.pronamespace where ${OURS}`,
  types: `select t.oid::regtype, t.typowner::regrole, ${acl('t.typacl', `'T'`, 't.typowner')}, t.typtype, t.typcategory, t.typispreferred, t.typisdefined, t.typdelim, t.typinput, t.typalign, t.typstorage, t.typnotnull, t.typdefault, t.typcollation::regcollation,
    (select array_agg(enumlabel order by enumsortorder) from pg_enum where enumtypid = t.oid) from pg_type t join pg_namespace n on n.oid = t.typnamespace where ${OURS} and t.typname !~ '^_?pg_toast'`,
  comments: `select ${object('')}, description from pg_description where objoid >= 16384 or classoid = 'pg_namespace'::regclass`.replaceAll(
    'classid, objid',
    'classoid, objoid',
  ),
  dependencies: `select ${object('')}, (select format('%s %s', type, identity) from pg_identify_object(refclassid, refobjid, refobjsubid)), deptype from pg_depend d
    where objid >= 16384 and not exists (select from pg_class c where c.oid in (objid, refobjid) and c.relnamespace = 'pg_toast'::regnamespace and c.oid is not null and (classid = 'pg_class'::regclass or refclassid = 'pg_class'::regclass))
      and classid not in ('pg_trigger'::regclass, 'pg_attrdef'::regclass) and refclassid <> 'pg_trigger'::regclass`,
  owners: `select ${object('')}, refobjid::regrole, deptype from pg_shdepend where dbid = (select oid from pg_database where datname = current_database()) and refclassid = 'pg_authid'::regclass`,
  'rights on what the system made': `select classoid::regclass, case classoid when 'pg_class'::regclass then objoid::regclass::text when 'pg_proc'::regclass then objoid::regprocedure::text else objoid::text end,
    (select ${acl('p.proacl', `'f'`, 'p.proowner')} from pg_proc p where p.oid = objoid and classoid = 'pg_proc'::regclass), (select ${acl('c.relacl', `'r'`, 'c.relowner')} from pg_class c where c.oid = objoid and classoid = 'pg_class'::regclass) from pg_init_privs where objoid < 16384`,
  sequences: `select s.*, q.seqcycle, q.seqcache from pg_sequences s join pg_sequence q on q.seqrelid = format('%I.%I', s.schemaname, s.sequencename)::regclass`,
}

const lines = (text: string) => text.split('\n').filter(Boolean).sort()

/** The catalogs of a database, each line told by names alone; [catalog, line], sorted. */
export function catalogsOf(database: string, server = testServer()): Record<string, string[]> {
  // One client for all of them: most of what a query costs is the beginning of a client.
  const queries = Object.values(CATALOGS).map((query) => `copy (select to_json(x) from (${query}) x) to stdout;`)
  const parts = server.psql(database, `set search_path = '';\n${queries.join(`\n\\echo ${APART}\n`)}`).split(APART)
  return Object.fromEntries(Object.keys(CATALOGS).map((name, i) => [name, lines(parts[i]!)]))
}

const APART = '======'

/** Structure with owners, rights, database properties and settings, and every row, sequence position and large object. */
export function dumpOf(database: string, server = testServer()): Pick<Whole, 'structure' | 'rows'> {
  const { structure, rows } = server.dumpApart(database, ['--column-inserts', '--blobs'])
  return { structure: statementsIn(structure.replaceAll(database, 'THE DATABASE')), rows: rowsIn(rows) }
}

function statementsIn(text: string): string[] {
  const statements = text.replaceAll(/^(--|SET |\\).*$/gm, '').split(/;\n\n+/)
  // Settings and rights of the database come in the order of their age.
  const inOrder = (statement: string) =>
    statement.includes('DATABASE THE DATABASE') ? statement.split(/;\n/).sort().join(';\n') : statement
  return statements
    .map((statement) => inOrder(statement.trim()))
    .filter(Boolean)
    .sort()
}

function rowsIn(text: string): string[] {
  return text
    .replaceAll(/^--.*$/gm, '')
    .split(/;\n/)
    .filter((line) => /INSERT INTO|setval|lo_|lowrite/.test(line))
    .map((line) => inOneOrder(line.trim()))
    .sort()
}

/** Rows of a hash over an enum lie in any of its partitions, and these may have their columns in another order. */
function inOneOrder(line: string): string {
  const [, columns, values] = /^INSERT INTO parts\.by_hash \((.*)\) VALUES \((.*)\)$/.exec(line) ?? []
  if (!columns || !values) return line
  const pairs = columns.split(', ').map((column, i) => `${column} = ${values.split(', ')[i]}`)
  return `INSERT INTO parts.by_hash ${pairs.sort().join(', ')}`
}

/** What is in one list and not in the other; [] where they are the same. */
export function differences(found: string[], expected: string[]): string[] {
  const [left, right] = [new Map<string, number>(), new Map<string, number>()]
  for (const line of found) left.set(line, (left.get(line) ?? 0) + 1)
  for (const line of expected) right.set(line, (right.get(line) ?? 0) + 1)
  const only = (a: Map<string, number>, b: Map<string, number>, sign: string) =>
    [...a].filter(([line, count]) => count > (b.get(line) ?? 0)).map(([line]) => `${sign} ${line.slice(0, 400)}`)
  return [...only(left, right, '+'), ...only(right, left, '-')].sort((a, b) => (a.slice(2) < b.slice(2) ? -1 : 1))
}

export interface Whole {
  structure: string[]
  rows: string[]
  catalogs: Record<string, string[]>
}

/** All that the oracles know of a database. */
export const wholeOf = (database: string, server = testServer()): Whole => ({
  ...dumpOf(database, server),
  catalogs: catalogsOf(database, server),
})

/** The server's own dump of a database, loaded into another one by its own client: what it can't keep, nobody has to. */
export function loadedTwin(database: string): Whole {
  const server = testServer()
  const twin = `${database}_dumped`
  server.psql('postgres', server.dump(database, ['--create', '--blobs']).replaceAll(database, twin))
  const whole = wholeOf(twin)
  dropWhole(twin)
  return whole
}

/**
 * How a database differs from what it was, by all oracles; {} when it does not.
 *
 * @param dumped what the server's own dump and load makes of it: differences that it has too are left out
 */
export function changesOf(database: string, expected: Whole, dumped: Whole = expected, server = testServer()): Record<string, string[]> {
  const list = ({ structure, rows, catalogs }: Whole): Record<string, string[]> => ({ structure, rows, ...catalogs })
  const [found, before, twin] = [list(wholeOf(database, server)), list(expected), list(dumped)]
  const all = Object.entries(found).map(([name, lines]): [string, string[]] => {
    const lossy = new Set(differences(twin[name]!, before[name]!))
    return [name, differences(lines, before[name]!).filter((line) => !lossy.has(line))]
  })
  return Object.fromEntries(all.filter(([, lines]) => lines.length > 0))
}

/** Drops a database, also one that a subscription holds. */
export function dropWhole(database: string): void {
  const server = testServer()
  if (server.psql('postgres', `select 1 from pg_database where datname = '${database}'`) === '') return
  for (const name of server
    .psql(database, `select subname from pg_subscription s join pg_database d on d.oid = s.subdbid where datname = current_database()`)
    .split('\n')
    .filter(Boolean))
    server.psql(
      database,
      `alter subscription ${name} disable; alter subscription ${name} set (slot_name = none); drop subscription ${name}`,
    )
  server.psql('postgres', `drop database ${database} with (force)`)
}

/** A vessel that takes a database of everything, a point of it, and what the oracles say of it. */
export interface Breadth {
  bench: Workbench
  vessel: Vessel
  point: string
  before: Whole
  /** What the server's own dump and load makes of it. */
  dumped: Whole
}

export async function openBreadth(): Promise<Breadth> {
  const bench = await Workbench.open(BREADTH)
  const vessel = await bench.vessel('Breadth')
  const point = await bench.backup(vessel)
  return { bench, vessel, point, before: wholeOf(bench.database), dumped: loadedTwin(bench.database) }
}

export async function closeBreadth(breadth: Breadth | undefined): Promise<void> {
  if (!breadth) return
  dropWhole(breadth.bench.database)
  await breadth.bench.close()
}
