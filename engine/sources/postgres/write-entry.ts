import type pg from 'pg'
import type { Mend } from '../../../core/restore/mends'
import { namesRoles, renameRoles } from '../../../core/restore/roles'
import { identifierOf, qualified, quoteIdentifier, quoteLiteral, rename, tokensOf, type Renaming } from '../../../core/restore/sql'
import { isOptional, type StructureEntry } from '../../../core/restore/structure'
import type { TargetState } from '../../../core/restore/target'
import { attempt, type UnrestoredPart } from './refill'

/** How entries of then are written at a target: under which names, for which roles. */
export interface Writing {
  renaming: Renaming
  roles: Record<string, string>
  target: TargetState
}

/** The statement of an entry, with the names and roles of a target. */
export function sqlFor(entry: StructureEntry, { renaming, roles }: Pick<Writing, 'renaming' | 'roles'>, sql = entry.sql): string {
  const renamed = rename(sql, renaming)
  return namesRoles(entry.type) || sql === entry.ownerSql || /SESSION AUTHORIZATION/.test(sql) ? renameRoles(renamed, roles) : renamed
}

/** Codes of what is not there: an object, a relation, a function. */
const UNDEFINED = ['42704', '42P01', '42883']

/** Runs entries of a structure within the caller's transaction. Parts that fail are gathered in `left`. */
export class EntryWriter {
  private defaults: Promise<boolean> | undefined

  constructor(
    private readonly client: pg.Client,
    private readonly writing: Writing,
    readonly unrestored: UnrestoredPart[],
  ) {}

  /** The statement of an entry, with the names and roles of the target. */
  sqlOf(entry: StructureEntry, sql = entry.sql): string {
    return sqlFor(entry, this.writing, sql)
  }

  /** @param must whether a failure ends the caller's transaction; else it is told as a part that is left. */
  async run(entry: StructureEntry, must = !isOptional(entry), sql = this.sqlOf(entry)): Promise<void> {
    await this.placeInto(entry)
    if (sql && must) await this.client.query(sql)
    else if (sql)
      for (const statement of statementsOf(entry, sql)) await this.attempt(statement, `${entry.type.toLowerCase()} ${entry.name}`)
    if (entry.accessMethod !== undefined) await this.client.query(`set local default_table_access_method = heap`)
    await this.resetRights(entry)
    await this.setOwner(entry)
  }

  /** Makes one difference of something that stands equal; what fails is told, and the rest goes on. */
  async mend({ words, after, resets, mayBeGone }: Mend, of: string): Promise<void> {
    if (resets) await this.resetInitial(resets)
    // Rights are given one by one, so that one role that is missing takes no other's away.
    const statements = resets ? after : [after.join('; ')].filter(Boolean)
    const ignored = mayBeGone ? UNDEFINED : []
    for (const statement of statements) await this.attempt(statement, `${words} (${of})`, ignored)
  }

  private async attempt(statement: string, what: string, ignored: string[] = []): Promise<void> {
    const failure = await attempt(this.client, statement)
    if (failure && !ignored.includes(failure.code)) this.unrestored.push({ what, why: failure.message })
  }

  private async setOwner(entry: StructureEntry): Promise<void> {
    const owner = this.writing.roles[entry.owner ?? ''] ?? entry.owner ?? ''
    if (!entry.ownerSql || !this.writing.target.roles.has(owner)) return
    await this.attempt(this.sqlOf(entry, entry.ownerSql), `owner of ${entry.name}`)
  }

  private async placeInto({ tablespace, accessMethod, name }: StructureEntry): Promise<void> {
    if (accessMethod !== undefined) await this.client.query(`set local default_table_access_method = ${quoteIdentifier(accessMethod)}`)
    if (tablespace !== undefined && !this.writing.target.tablespaces.has(tablespace)) {
      this.unrestored.push({
        what: `tablespace of ${name}`,
        why: `There is no tablespace ${tablespace} at the target; it lies in the default one.`,
      })
      return
    }
    if (tablespace !== undefined) await this.client.query(`set local default_tablespace = ${quoteIdentifier(tablespace)}`)
    else if (this.writing.target.tablespaces.size > 2) await this.client.query(`set local default_tablespace = ''`)
  }

  /**
   * Default privileges of the target give new things rights that they did not have then. They are taken away
   * again before the rights of then are given.
   */
  private async resetRights(entry: StructureEntry): Promise<void> {
    if (entry.type === 'EXTENSION' && (await this.hasDefaults())) return this.resetMembers(entry.name)
    const match = CREATED.exec(entry.ownerSql ?? '')
    if (!match || !(await this.hasDefaults())) return
    const kind = RIGHTS[match[1]!]!
    await this.resetOne(kind, rename(kind.catalog === 'pg_proc' ? signatureOf(match[2]!, entry.name) : match[2]!, this.writing.renaming))
  }

  private async resetMembers(extension: string): Promise<void> {
    const { rows } = await this.client.query<{ kind: string; name: string }>(MEMBERS, [extension])
    for (const { kind, name } of rows) await this.resetOne(RIGHTS[kind]!, name)
  }

  private async resetOne(kind: Rights, name: string): Promise<void> {
    const { rows } = await this.client.query<{ grantee: string; fresh: boolean }>(rightsQuery(kind), [name])
    for (const { grantee } of rows.filter(({ fresh }) => fresh))
      await this.client.query(`revoke all on ${kind.word} ${name} from ${grantee}`)
    for (const { grantee } of rows.filter(({ fresh }) => !fresh)) await this.client.query(`grant all on ${kind.word} ${name} to ${grantee}`)
  }

  /** Gives something the rights that it had when it was made, by the server or by an extension. */
  async resetInitial(entry: Pick<StructureEntry, 'schema' | 'name'>): Promise<void> {
    const [, word, name] = /^(MATERIALIZED VIEW|FOREIGN TABLE|FOREIGN SERVER|FOREIGN DATA WRAPPER|\w+) ([\s\S]*)$/.exec(entry.name) ?? []
    const kind = RIGHTS[word ?? '']
    if (!kind) return
    const target = kind.catalog === 'pg_proc' ? await this.routineOf(entry.schema!, name!) : writtenName(entry.schema, name!)
    const { rows } = await this.client.query<{ statement: string }>(initialQuery(kind, target), [target])
    for (const { statement } of rows) await this.attempt(statement, `rights of ${entry.name}`)
  }

  /** A routine with the types of its arguments, by its name in a dump's table of contents, which has their names too. */
  private async routineOf(schema: string, name: string): Promise<string> {
    const { rows } = await this.client.query<{ routine: string }>(
      `select p.oid::regprocedure::text as routine from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
       where n.nspname = $1 and format('(%s)', pg_catalog.pg_get_function_identity_arguments(p.oid)) in (substr($2, length(p.proname) + 1), substr($2, length(quote_ident(p.proname)) + 1))
         and (starts_with($2, p.proname) or starts_with($2, quote_ident(p.proname)))`,
      [schema, name.replace(/\(\*\)$/, '()')],
    )
    return rows[0]?.routine ?? qualified(schema, name)
  }

  private hasDefaults(): Promise<boolean> {
    this.defaults ??= this.client
      .query<{ some: boolean }>('select exists (select from pg_catalog.pg_default_acl) as some')
      .then(({ rows }) => rows[0]!.some)
    return this.defaults
  }
}

const CREATED =
  /^ALTER (SCHEMA|TABLE|VIEW|MATERIALIZED VIEW|FOREIGN TABLE|SEQUENCE|FUNCTION|PROCEDURE|AGGREGATE|TYPE|DOMAIN) ([\s\S]*) OWNER TO/

/** Members of an extension whose rights are not those that its own script gave. */
const MEMBERS = `
  with member as (select d.classid, d.objid from pg_catalog.pg_depend d join pg_catalog.pg_extension e on e.oid = d.refobjid
    where d.refclassid = 'pg_catalog.pg_extension'::regclass and d.deptype = 'e' and e.extname = $1
      and not exists (select from pg_catalog.pg_init_privs i where i.classoid = d.classid and i.objoid = d.objid and i.objsubid = 0))
  select 'ROUTINE' as kind, p.oid::regprocedure::text as name from member join pg_catalog.pg_proc p on p.oid = objid
    where classid = 'pg_catalog.pg_proc'::regclass and p.proacl is not null
  union all select 'TYPE', t.oid::regtype::text from member join pg_catalog.pg_type t on t.oid = objid
    where classid = 'pg_catalog.pg_type'::regclass and t.typacl is not null
  union all select 'TABLE', c.oid::regclass::text from member join pg_catalog.pg_class c on c.oid = objid
    where classid = 'pg_catalog.pg_class'::regclass and c.relacl is not null and c.relkind in ('r', 'v')`

/** Rights are given one by one, so that one role that is missing takes no other's away. */
function statementsOf(entry: StructureEntry, sql: string): string[] {
  if (entry.type !== 'ACL' && entry.type !== 'DEFAULT ACL') return [sql]
  const statements = sql.split(/;\s*\n/).map((statement) => statement.trim())
  return statements.filter(Boolean)
}

/** A routine with the types of its arguments alone, as a cast to regprocedure wants it. */
function signatureOf(written: string, tag: string): string {
  const tokens = tokensOf(written)
  const base = tokens.slice(
    0,
    tokens.findIndex(({ text }) => text === '('),
  )
  const plain = identifierOf(base.at(-1)) ?? ''
  return base.map(({ text }) => text).join('') + tag.slice(plain.length)
}

interface Rights {
  /** How GRANT calls it. */
  word: string
  /** How it is found by its name, which is $1. */
  found: string
  catalog: string
  acl: string
  owner: string
  /** Kind of object for acldefault. */
  kind: string
}

const relation = (word: string, kind: string): Rights => ({
  word,
  found: 'oid = $1::regclass',
  catalog: 'pg_class',
  acl: 'relacl',
  owner: 'relowner',
  kind,
})
// Casts to regprocedure and regtype refuse types that are not made yet, which functions of a new type take.
// The dump writes a space between types where they have none.
const plainly = (signature: string) => `replace(replace(${signature}, '"', ''), ', ', ',')`
const routine = (word: string): Rights => ({
  word,
  found: `${plainly('oid::regprocedure::text')} = ${plainly(`replace($1, '(*)', '()')`)}`,
  catalog: 'pg_proc',
  acl: 'proacl',
  owner: 'proowner',
  kind: 'f',
})
const type: Rights = {
  word: 'type',
  found: `(select n.nspname from pg_catalog.pg_namespace n where n.oid = typnamespace) || '.' || typname = replace($1, '"', '')`,
  catalog: 'pg_type',
  acl: 'typacl',
  owner: 'typowner',
  kind: 'T',
}
const RIGHTS: Record<string, Rights> = {
  SCHEMA: { word: 'schema', found: 'oid = $1::regnamespace', catalog: 'pg_namespace', acl: 'nspacl', owner: 'nspowner', kind: 'n' },
  TABLE: relation('table', 'r'),
  VIEW: relation('table', 'r'),
  'MATERIALIZED VIEW': relation('table', 'r'),
  'FOREIGN TABLE': relation('table', 'r'),
  SEQUENCE: relation('sequence', 's'),
  FUNCTION: routine('function'),
  PROCEDURE: routine('procedure'),
  AGGREGATE: routine('function'),
  ROUTINE: routine('routine'),
  TYPE: type,
  DOMAIN: type,
  LANGUAGE: {
    word: 'language',
    found: `lanname = (parse_ident($1))[1]`,
    catalog: 'pg_language',
    acl: 'lanacl',
    owner: 'lanowner',
    kind: 'l',
  },
  'FOREIGN SERVER': {
    word: 'foreign server',
    found: `srvname = (parse_ident($1))[1]`,
    catalog: 'pg_foreign_server',
    acl: 'srvacl',
    owner: 'srvowner',
    kind: 'S',
  },
  'FOREIGN DATA WRAPPER': {
    word: 'foreign data wrapper',
    found: `fdwname = (parse_ident($1))[1]`,
    catalog: 'pg_foreign_data_wrapper',
    acl: 'fdwacl',
    owner: 'fdwowner',
    kind: 'F',
  },
}

/** A relation or type in full, or what lies in no schema. */
const writtenName = (schema: string | null, name: string) => (schema === null ? quoteIdentifier(name) : qualified(schema, name))

/** Statements that take all rights and give those of the beginning; what its owner of then had is its owner's of now. */
const initialQuery = ({ word, found, catalog, acl, owner, kind }: Rights, target: string) => `
  with thing as (select oid, ${owner} as owner, coalesce(${acl}, acldefault('${kind}', ${owner})) as acl, acldefault('${kind}', ${owner}) as usual
      from pg_catalog.${catalog} where ${found}),
    initial as (select coalesce((select i.initprivs from pg_catalog.pg_init_privs i where i.classoid = 'pg_catalog.${catalog}'::regclass
      and i.objoid = thing.oid and i.objsubid = 0), usual) as acl from thing),
    named as (select true as takes, a.grantee, '' as privilege, false as grantable from thing, aclexplode(thing.acl) a group by a.grantee
      union all select false, case when a.grantee = a.grantor then thing.owner else a.grantee end, a.privilege_type, a.is_grantable
        from thing, initial, aclexplode(initial.acl) a)
  select case when takes then 'revoke all on ${word} ' else 'grant ' || privilege || ' on ${word} ' end || ${quoteLiteral(target)}
    || case when takes then ' from ' else ' to ' end || case grantee when 0 then 'public' else quote_ident(pg_get_userbyid(grantee)) end
    || case when grantable then ' with grant option' when takes then ' cascade' else '' end as statement
  from named order by takes desc`

/** Grantees that have rights which are none of the default, and those of the default that lack theirs. */
const rightsQuery = ({ found, catalog, acl, owner, kind }: Rights) => `
  with thing as (select ${acl} as acl, acldefault('${kind}', ${owner}) as usual from pg_catalog.${catalog} where ${found} and ${acl} is not null),
    has as (select a.grantee, array_agg(a.privilege_type || a.is_grantable order by 1) as rights from thing, aclexplode(acl) a group by 1),
    usual as (select a.grantee, array_agg(a.privilege_type || a.is_grantable order by 1) as rights from thing, aclexplode(usual) a group by 1)
  select case grantee when 0 then 'public' else quote_ident(pg_get_userbyid(grantee)) end as grantee, fresh from (
    select has.grantee, true as fresh from has left join usual using (grantee) where usual.rights is distinct from has.rights
    union all select usual.grantee, false from usual left join has using (grantee) where usual.rights is distinct from has.rights) x`
