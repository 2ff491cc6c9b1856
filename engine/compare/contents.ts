import { isKnownByName } from '../../core/restore/kinds'
import { lastName, namesOf, pathOf } from '../../core/things/thing'
import { thingKey } from '../../core/restore/sql'
import { existsAt } from '../../core/restore/target'
import { errorRecord, type ErrorRecord } from '../../core/errors'
import { accessOf, thingsPresent } from '../catalog/sources'
import type { EngineContext } from '../context'
import { namespaceThings } from './namespace-things'
import { noRows, openPoint } from '../points/open'
import { inspectTarget } from '../sources/postgres/inspect'

/** A thing in a point, for its tree. */
export interface PointThing {
  path: string
  kind: string
  name: string
  rows: number | null
  bytes: number | null
  /** Whether it stands at its source now; null when the source can't be asked. */
  there: boolean | null
  /** Why it can't be restored from here, though it was there; or from which other time its rows are. */
  unknown?: string
  asOf?: string
  /** Of what comes out of a cluster. */
  labels?: Record<string, string>
  /** How a volume was read, until when, and whether something used it meanwhile; null where that was not looked at. */
  read?: { how: 'snapshot' | 'in place'; inUse: boolean | null; at: string }
}

export interface PointContents {
  things: PointThing[]
  /** Schemas at the source now, by database path, as places for copies. */
  schemas: Record<string, string[]>
  /** Why the source could not be asked what is there now. */
  trouble: ErrorRecord | null
}

/** Everything in a point, containers before what lies in them; with what is there now unless that is not asked for. */
export async function pointContents(engine: EngineContext, pointId: string, withNow = true): Promise<PointContents> {
  const point = await openPoint(engine, pointId, noRows)
  const contents: PointContents = { things: [], schemas: {}, trouble: null }
  for (const { member, manifest } of point.members) {
    if (manifest.namespaces) {
      // Discovery watches clusters, so what it knows is what is there.
      const present = withNow ? new Set((await thingsPresent(engine, member)).map(({ path }) => path)) : null
      for (const namespace of manifest.namespaces) contents.things.push(...namespaceThings(member, namespace, present))
    }
    for (const database of manifest.databases) {
      const asking = withNow ? accessOf(engine, member).then((access) => inspectTarget(access, database.name, false)) : null
      const target = await asking?.catch((error: unknown) => {
        contents.trouble = errorRecord(error, 'Nothing was changed.')
        return null
      })
      const root = pathOf(member, database.name)
      contents.schemas[root] = target ? [...target.schemas].filter((name) => !/^pg_|^information_schema$/.test(name)).sort() : []
      contents.things.push({
        path: root,
        kind: 'database',
        name: database.name,
        rows: null,
        bytes: null,
        there: target ? target.exists : null,
      })
      const entries = new Map(database.entries.map((entry) => [entry.id, entry]))
      const others = database.others
        .filter(({ kind }) => kind !== 'schema')
        .map(({ path, kind, entry }) => {
          const { schema, name } = entries.get(entry)!
          // Whether kinds that its catalog does not list by name stand there takes a dump, which the plan makes.
          const there = target && isKnownByName(kind) ? existsAt(target, kind, schema ?? '', name) : null
          return { path, kind, schema, name: lastName(path), rows: null, bytes: null, there }
        })
      const tables = database.tables.map(({ path, schema, name, rows, bytes, structure }) => ({
        path,
        kind: structure.partitionOf ? 'partition' : 'table',
        rows: structure.kind === 'partitioned' ? null : rows,
        bytes,
        schema,
        name,
        there: target ? target.tables.has(thingKey(schema, name)) : null,
      }))
      const held = new Set([...tables, ...others].map(({ path }) => path))
      const unknown = database.missing.flatMap(({ path, reason, note, onlyAt }) => {
        const [, , schema, ...name] = namesOf(path)
        if (note || onlyAt !== undefined || held.has(path) || schema === undefined || name.length === 0) return []
        const there = target ? target.tables.has(thingKey(schema, name.join('/'))) : null
        return [{ path, kind: 'table', schema, name: name.join('/'), rows: null, bytes: null, there, unknown: reason }]
      })
      const asOf = new Map(database.missing.flatMap(({ path, reason, note }) => (note ? [[path, reason]] : [])))
      const { largeObjects: large } = database
      const pages = large
        ? [
            {
              path: large.path,
              kind: 'large-objects',
              schema: null,
              name: 'large objects',
              rows: large.objects.length,
              bytes: large.bytes,
              there: null,
            },
          ]
        : []
      const all = [...tables, ...unknown, ...others, ...pages].map((thing) => ({
        ...thing,
        ...(asOf.has(thing.path) ? { asOf: asOf.get(thing.path)! } : {}),
      }))
      // What is in no schema comes last.
      const schemas = [...new Set(all.map((thing) => thing.schema))].sort(
        (a, b) => Number(a === null) - Number(b === null) || (a! < b! ? -1 : 1),
      )
      for (const schema of schemas) {
        if (schema !== null)
          contents.things.push({
            path: pathOf(member, database.name, schema),
            kind: 'schema',
            name: schema,
            rows: null,
            bytes: null,
            there: target ? target.schemas.has(schema) : null,
          })
        for (const { schema: _, ...thing } of all.filter((candidate) => candidate.schema === schema)) contents.things.push(thing)
      }
    }
  }
  return contents
}
