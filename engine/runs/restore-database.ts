import type pg from 'pg'
import { VesselError } from '../../core/errors'
import type { OtherThing } from '../../core/content/manifest'
import type { Group, Operation } from '../../core/restore/plan'
import { qualified } from '../../core/restore/sql'
import type { StructureEntry } from '../../core/restore/structure'
import { definitionKey } from '../../core/restore/target'
import { plural } from '../../core/time/words'
import { accessOf, discoverSource } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import { describeProperties } from '../sources/postgres/describe-database'
import { standingUpon } from '../sources/postgres/dependents'
import { isRefusal } from '../sources/postgres/commit'
import { connect, translate, withClient } from '../sources/postgres/connect'
import { dropMade, joinRoles, makeDatabase, makeRole, writeProperties } from '../sources/postgres/make-database'
import { readStructure } from '../sources/postgres/utilities'
import { AS_A_WHOLE, DEFINITIONS } from '../../core/restore/receipt'
import { membersOf } from '../../core/restore/entries'
import type { RunContext } from './context'
import { keepOverwritten, type Overwritten } from './keep'
import { comparable, proveStructure } from './prove-structure'
import type { Receipts } from './receipts'
import { restoreGroup } from './restore-group'
import { makeStrict, namesStillHold, sayAudited, saySequences } from './restore-last'
import { putLargeObjects } from './restore-large-objects'
import type { UnrestoredPart } from '../sources/postgres/refill'
import { defineLate, keyOf, makeOther, type Standing } from './restore-others'
import type { OpenPoint } from '../points/open'
import type { PlannedDatabase } from './restore-plan'
import { StandingStructure } from './standing'
import { beginScratch, finishScratch } from './scratch'

const TITLES = { [AS_A_WHOLE]: 'Structure compared as a whole', [DEFINITIONS]: 'Definitions compared' }
const UNTOUCHED = 'It was rolled back: what stood there before is as it was.'

type Count = (counter: string, by: number) => void

/** Brings the things of one database back, in the order of its plan. */
export class DatabaseRestore {
  /** The database that this restore made: it goes again when the restore does not end. */
  private fresh: { undo: number; oid: number } | null = null
  private readonly structure: StandingStructure

  constructor(
    private readonly run: RunContext,
    private readonly vessel: Vessel,
    private readonly point: OpenPoint,
    private readonly planned: PlannedDatabase,
    private readonly receipts: Receipts,
  ) {
    this.structure = new StandingStructure(planned.access, planned.database, run.signal)
  }

  async go(): Promise<void> {
    const { plan, wish } = this.planned
    const scratch = wish.into.mode === 'scratch' ? await beginScratch(this.run, this.vessel, this.planned) : null
    try {
      const steps = await this.planSteps()
      await this.run.step(steps.before, async (count) => {
        await this.makeDatabase()
        await this.standalone('before', count)
      })
      if (steps.large !== null) await this.run.step(steps.large, (count) => this.largeObjects(count))
      for (const { group, ordinal } of steps.groups.filter((group) => !group.group.late)) await this.restoreOne(group, ordinal)
      await this.run.step(steps.after, (count) => this.standalone('after', count))
      for (const { group, ordinal } of steps.groups.filter((group) => group.group.late)) await this.restoreOne(group, ordinal)
      await this.run.step(steps.last, (count) => this.standalone('last', count))
      const last = { run: this.run, point: this.point, planned: this.planned, receipts: this.receipts }
      await makeStrict(last)
      await namesStillHold(last)
      for (const operation of plan.operations) if (operation.verb === 'leave') this.receipts.left(operation, operation.notes[0] ?? '')
      if (steps.proof) {
        const { step, what } = steps.proof
        await this.run.step(step, () => proveStructure(this.run, this.planned, this.receipts, what))
      }
      await sayAudited(last)
      saySequences(last)
      if (scratch) await finishScratch(this.run, scratch, this.planned)
      if (this.fresh) await this.run.undone(this.fresh.undo)
    } catch (error) {
      await this.undo()
      throw error
    }
    await discoverSource(this.run.engine, (await accessOf(this.run.engine, this.planned.access.name)).id)
  }

  private async planSteps() {
    const { access, database, plan } = this.planned
    const member = `${access.name} / ${database}`
    const before = await this.run.plan({ kind: 'structure', member, title: 'Structures before rows' })
    const hasLarge = plan.operations.some(({ kind, verb }) => kind === 'large-objects' && verb !== 'leave')
    const large = hasLarge ? await this.run.plan({ kind: 'large-objects', member, title: 'Large objects' }) : null
    const groups = []
    for (const group of plan.groups)
      groups.push({ group, ordinal: await this.run.plan({ kind: 'group', member, title: this.titleOf(group) }) })
    const after = await this.run.plan({ kind: 'structure', member, title: 'What depends on them' })
    const last = await this.run.plan({ kind: 'structure', member, title: 'What acts on all of it' })
    const what = comparable(this.planned)
    const proof = what && { what, step: await this.run.plan({ kind: 'structure', member, title: TITLES[what] }) }
    return { before, large, groups, after, last, proof }
  }

  private titleOf({ tables }: Group): string {
    const names = tables.map((i) => this.planned.plan.operations[i]!.target).map(({ schema, name }) => `${schema}.${name}`)
    return names.length > 3 ? `${names.slice(0, 2).join(', ')} and ${names.length - 2} more together` : names.join(', ')
  }

  private async makeDatabase(): Promise<void> {
    const { access, manifest, target, database, plan } = this.planned
    const roles = plan.operations.filter(({ kind, verb }) => kind === 'role' && verb === 'make')
    for (const operation of roles) {
      await withClient(access, undefined, (client) => makeRole(client, manifest, operation.target.name))
      target.roles.add(operation.target.name)
    }
    for (const operation of roles)
      this.receipts.made(
        operation,
        await withClient(access, undefined, (client) => joinRoles(client, manifest, operation.target.name, target.roles)),
      )
    if (target.exists) return
    // For the case that this worker dies: whoever tidies up drops it again.
    const undo = await this.run.willUndo({ kind: 'database', what: { source: access.name, database, oid: null } })
    const oid = await withClient(access, undefined, (client) => makeDatabase(client, database, manifest)).catch(async (error: unknown) => {
      // What the server refused to make is not ours; what it did not answer about is looked at by whoever tidies up.
      if (isRefusal(error)) await this.run.undone(undo)
      throw translate(error, access, database)
    })
    this.fresh = { undo, oid }
    target.exists = true
    await this.run.undoInstead(undo, { source: access.name, database, oid })
    await this.run.say('info', `The database ${database} was made.`)
  }

  /** A database that this restore made, and that nobody can have used yet, does not stay half-filled. */
  private async undo(): Promise<void> {
    if (!this.fresh) return
    const { access, database } = this.planned
    const { oid, undo } = this.fresh
    try {
      await this.run.confirm()
      await withClient(access, undefined, (client) => dropMade(client, access, { database, oid }))
      await this.run.undone(undo)
      await this.run.say('info', `The database ${database}, which this restore had made, was dropped again.`)
    } catch (error) {
      const { message } = error as Error
      await this.run.say(
        'warning',
        `The database ${database}, which this restore had made, could not be dropped yet: ${message} It is tried again.`,
      )
    }
  }

  /** Things without rows: each in a transaction of its own, so that one that fails takes no other with it. */
  private async standalone(when: Operation['when'], count: Count): Promise<void> {
    const { access, database, plan } = this.planned
    const inner = new Set(plan.groups.flatMap((group) => group.inner))
    const apart = new Set(['table', 'role', 'large-objects'])
    const due = plan.operations.filter(
      (operation, i) => !apart.has(operation.kind) && operation.verb !== 'leave' && operation.when === when && !inner.has(i),
    )
    if (due.length === 0) return
    await withClient(access, database, async (client) => {
      const replaces = due.some(({ verb }) => verb === 'replace')
      const before = replaces ? await readStructure(access, database, client, { signal: this.run.signal }) : []
      await this.keepOthers(client, due, before)
      const waiting: { operation: Operation; unrestored: UnrestoredPart[] }[] = []
      const until = {
        made: (operation: Operation, unrestored: UnrestoredPart[]) => void waiting.push({ operation, unrestored }),
        failed: (operation: Operation, error: unknown) => this.receipts.failed(operation, error),
      }
      for (const operation of due) {
        this.run.signal.throwIfAborted()
        const receipts = operation.later.length > 0 ? until : this.receipts
        if (operation.kind === 'database') await this.properties(client, operation)
        else await makeOther(client, this.planned, await this.asItStands(client, operation, before), receipts)
        count('structures', 1)
      }
      for (const { operation, unrestored } of waiting)
        this.receipts.made(operation, [...unrestored, ...(await defineLate(client, this.planned, operation))])
    })
  }

  /** What of things without rows, and of the database itself, is about to be replaced, as one point. */
  private async keepOthers(client: pg.Client, due: Operation[], before: StructureEntry[]): Promise<void> {
    const others = this.replacedOf(due, before)
    const isDatabase = due.some(({ kind, verb }) => kind === 'database' && verb === 'replace')
    const properties = isDatabase ? await describeProperties(client) : undefined
    await this.keep(client, { others, ...(properties ? { properties } : {}) }, before)
  }

  /** Things without rows that operations replace, as they stand in a structure. */
  private replacedOf(operations: Operation[], before: StructureEntry[]): OtherThing[] {
    const byKey = new Map(before.map((entry) => [definitionKey(entry), entry.id]))
    return operations.flatMap((operation): OtherThing[] => {
      const entry = byKey.get(keyOf(operation, this.planned.manifest))
      return operation.verb !== 'replace' || entry === undefined ? [] : [{ path: operation.path, kind: operation.kind, entry }]
    })
  }

  /** An operation with what stands upon its thing at this moment, and the structure of which that is a part. */
  private async asItStands(client: pg.Client, operation: Operation, before: StructureEntry[]): Promise<Standing> {
    const isDropped = operation.verb === 'replace' && operation.how === 'rebuild' && operation.rebuilds.length > 0
    if (!isDropped) return { operation, rebuilds: [], before }
    const { access, database } = this.planned
    // Earlier steps may have made again what stands upon it.
    const rebuilds = await standingUpon(client, [operation.target])
    return { operation, rebuilds, before: await readStructure(access, database, client, { signal: this.run.signal }) }
  }

  private async properties(client: pg.Client, operation: Operation): Promise<void> {
    const { manifest, database, writing } = this.planned
    this.receipts.made(operation, await writeProperties(client, database, manifest.properties!, writing, this.planned.target.properties))
  }

  private async largeObjects(count: Count): Promise<void> {
    const { access, database, plan } = this.planned
    const operation = plan.operations.find(({ kind }) => kind === 'large-objects')!
    try {
      await withClient(access, database, (client) =>
        putLargeObjects(client, this.planned, this.point.store, operation, this.receipts, count, (kept) => this.keep(client, kept, [])),
      )
    } catch (error) {
      if (this.run.signal.aborted) throw error
      this.receipts.failed(operation, translate(error, access, database, UNTOUCHED))
    }
  }

  private async restoreOne(group: Group, ordinal: number): Promise<void> {
    const { access, database, plan } = this.planned
    const members = membersOf(this.planned, group.tables)
    const inner = group.inner.map((i) => plan.operations[i]!)
    this.run.signal.throwIfAborted()
    try {
      await this.run.step(ordinal, async (count) => {
        const client = await connect(access, database)
        const stop = () => (client as unknown as { connection: { stream: { destroy(): void } } }).connection.stream.destroy()
        this.run.signal.addEventListener('abort', stop)
        try {
          // Before locks are held, because the dump needs its own.
          const stands = members.some(({ operation }) => operation.verb === 'replace' || operation.verb === 'merge')
          const again = [...members.map(({ operation }) => operation), ...inner].filter(
            ({ how, kind }) => how === 'rebuild' && kind !== 'cast',
          )
          const rebuilds = await standingUpon(
            client,
            again.map(({ target }) => target),
          )
          const tables = members.map(({ operation }) => operation.target)
          // What is made again upon them may have been made again before, with another group.
          const read = () => (rebuilds.length > 0 ? this.structure.now(client) : this.structure.ofTables(client, tables))
          const before = stands ? await read() : []
          const outcomes = await restoreGroup(client, {
            planned: this.planned,
            store: this.point.store,
            members,
            inner,
            before,
            rebuilds,
            progress: {
              structures: (n) => count('structures', n),
              rows: (n, bytes) => (count('rows', n), count('bytes', bytes)),
              checked: (n) => count('rows checked', n),
            },
            keep: (locked, overwritten) =>
              this.keep(
                locked,
                { tables: overwritten.map(({ operation }) => operation.target), others: this.replacedOf(inner, before) },
                before,
              ),
          })
          for (const outcome of outcomes) this.receipts.table(outcome)
          for (const operation of inner) this.receipts.made(operation, [])
          for (const { operation } of outcomes)
            await client.query(`analyze ${qualified(operation.target.schema, operation.target.name)}`).catch(() => undefined)
        } finally {
          this.run.signal.removeEventListener('abort', stop)
          await client.end().catch(() => undefined)
        }
      })
    } catch (error) {
      if (this.run.signal.aborted) throw error
      const translated = translate(error, access, database, UNTOUCHED)
      for (const operation of [...members.map((member) => member.operation), ...inner]) this.receipts.failed(operation, translated)
      await this.run.say('error', translated instanceof VesselError ? `${translated.message} ${translated.touched}` : String(translated))
    }
  }

  private async keep(client: pg.Client, overwritten: Overwritten, before: StructureEntry[]): Promise<void> {
    const { tables = [], others = [], largeObjects = [], properties } = overwritten
    const things = tables.length + others.length + largeObjects.length + (properties ? 1 : 0)
    if (things === 0) return
    const { access, database, manifest, plan, wish } = this.planned
    const into = { access: await accessOf(this.run.engine, access.name), database, before: manifest, days: wish.keepDays }
    const remade = plan.operations.some(({ verb, how }) => verb === 'replace' && how === 'rebuild')
    await keepOverwritten(this.run, this.vessel, this.point.store, client, into, { ...overwritten, remade }, before)
    await this.run.say('info', `What stood there was kept as a point of its own: ${plural(things, 'thing')}.`)
  }
}
