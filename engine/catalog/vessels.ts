import { randomUUID } from 'node:crypto'
import { VesselError } from '../../core/errors'
import { definitionTroubles, type VesselDefinition } from '../../core/plan/definition'
import { pauseOf, type WiderPause } from '../../core/plan/paused'
import type { Pause } from '../../core/plan/state'
import { NAME_LENGTH, nameTrouble, slugFor } from '../../core/things/name'
import type { EngineContext } from '../context'
import type { Departed } from './retention-types'
import { notify } from '../notify'

export interface Vessel {
  id: string
  slug: string
  name: string
  pause: Pause | null
  /** That it was deleted; null as long as it is not. */
  gone: Departed | null
  version: number
  definition: VesselDefinition
}

/** Saves a new vessel with version 1 of its definition. */
export async function addVessel(engine: EngineContext, name: string, definition: VesselDefinition): Promise<Vessel> {
  const trouble = nameTrouble(name, NAME_LENGTH)
  if (trouble) throw invalid([trouble])
  const trimmed = name.trim()
  ensureValid(definition)
  const others = await engine.db.selectFrom('vessel').select(['name', 'slug', 'gone']).execute()
  const same = others.find((other) => !other.gone && isSameName(other.name, trimmed))
  if (same) throw exists(same.name)
  const slug = slugFor(trimmed, new Set(others.map((other) => other.slug)))
  const id = randomUUID()
  const now = engine.clock.now()
  await engine.db.transaction().execute(async (tx) => {
    const made = await tx
      .insertInto('vessel')
      .values({ id, slug, name: trimmed, version: 1, created_at: now })
      .onConflict((conflict) => conflict.doNothing())
      .executeTakeFirst()
    // Somebody was quicker, perhaps the same person with a second click.
    if (made.numInsertedOrUpdatedRows !== 1n) throw exists(trimmed)
    await tx
      .insertInto('vessel_version')
      .values({ vessel_id: id, version: 1, definition: JSON.stringify(definition), created_at: now })
      .execute()
  })
  await notify(engine.db, { about: 'vessel', id })
  return { id, slug, name: trimmed, pause: null, gone: null, version: 1, definition }
}

const isSameName = (a: string, b: string) => a.toLowerCase() === b.toLowerCase()

/** Gives a vessel another name; its address stays. */
export async function renameVessel(engine: EngineContext, slug: string, name: string): Promise<void> {
  const trouble = nameTrouble(name, NAME_LENGTH)
  if (trouble) throw invalid([trouble])
  const vessel = requireThere(await vesselBySlug(engine, slug))
  const same = (await allVessels(engine)).find((other) => other.id !== vessel.id && isSameName(other.name, name.trim()))
  if (same) throw exists(same.name)
  await engine.db.updateTable('vessel').set({ name: name.trim() }).where('id', '=', vessel.id).execute()
  await notify(engine.db, { about: 'vessel', id: vessel.id })
}

/** @throws VesselError `vessel_gone` */
export function requireThere<T extends Pick<Vessel, 'name' | 'gone'>>(vessel: T): T {
  if (!vessel.gone) return vessel
  throw new VesselError('vessel_gone', {
    what: `${vessel.name} was deleted: nothing is made of it any more.`,
    touched: 'Nothing was changed.',
    next: 'Restore from its points as long as they stay, or define a new vessel.',
    status: 409,
  })
}

const exists = (name: string) =>
  new VesselError('vessel_exists', {
    what: `There is a vessel called ${name} already.`,
    touched: 'Nothing was saved.',
    next: 'Choose another name.',
    status: 409,
  })

/** Saves the next version. `basedOn` is the version that the person saw; a newer one is not overwritten. */
export async function saveDefinition(engine: EngineContext, slug: string, basedOn: number, definition: VesselDefinition): Promise<number> {
  ensureValid(definition)
  const vessel = requireThere(await vesselBySlug(engine, slug))
  const version = basedOn + 1
  await engine.db.transaction().execute(async (tx) => {
    const { numUpdatedRows } = await tx
      .updateTable('vessel')
      .set({ version })
      .where('id', '=', vessel.id)
      .where('version', '=', basedOn)
      .executeTakeFirst()
    if (numUpdatedRows === 0n) {
      throw new VesselError('definition_changed', {
        what: `Somebody saved version ${vessel.version} of ${vessel.name} meanwhile; yours is based on ${basedOn}.`,
        touched: 'Nothing was saved; your changes are still on the screen.',
        next: 'Look at the newer version, then save again.',
        status: 409,
      })
    }
    await tx
      .insertInto('vessel_version')
      .values({ vessel_id: vessel.id, version, definition: JSON.stringify(definition), created_at: engine.clock.now() })
      .execute()
  })
  await notify(engine.db, { about: 'vessel', id: vessel.id })
  return version
}

function ensureValid(definition: VesselDefinition): void {
  const troubles = definitionTroubles(definition)
  if (troubles.length > 0) throw invalid(troubles)
}

function invalid(troubles: string[]): VesselError {
  return new VesselError('definition_invalid', {
    what: troubles.join(' '),
    touched: 'Nothing was saved.',
    next: 'Mend this, then save again.',
  })
}

const selectVessels = (engine: EngineContext) =>
  engine.db
    .selectFrom('vessel')
    .innerJoin('vessel_version', (join) =>
      join.onRef('vessel_version.vessel_id', '=', 'vessel.id').onRef('vessel_version.version', '=', 'vessel.version'),
    )
    .select(['vessel.id', 'vessel.slug', 'vessel.name', 'vessel.pause', 'vessel.gone', 'vessel.version', 'vessel_version.definition'])

type SavedVessel = Awaited<ReturnType<ReturnType<typeof selectVessels>['executeTakeFirstOrThrow']>>

/** A vessel is paused with its sources, and with everything. */
async function withPauses(engine: EngineContext, saved: SavedVessel[]): Promise<Vessel[]> {
  const wider = await widerPauses(engine)
  return saved.map((vessel) => ({ ...vessel, pause: pauseOf(vessel.pause, vessel.definition, wider) }))
}

async function widerPauses(engine: EngineContext): Promise<WiderPause[]> {
  const rows = await engine.db
    .selectFrom('wider_pause')
    .leftJoin('source', 'source.id', 'wider_pause.source_id')
    .select(['source.name', 'wider_pause.pause'])
    .execute()
  return rows.map(({ name, pause }) => ({ thing: name === null ? { of: 'everything' } : { of: 'source', name }, pause }))
}

/** All that there are; those that were deleted are not among them. */
export async function allVessels(engine: EngineContext): Promise<Vessel[]> {
  return withPauses(engine, await selectVessels(engine).where('vessel.gone', 'is', null).orderBy('vessel.name').execute())
}

/** Those that were deleted, too: as long as anything is left of them, it is looked after. */
export async function everyVessel(engine: EngineContext): Promise<Vessel[]> {
  return withPauses(engine, await selectVessels(engine).orderBy('vessel.name').execute())
}

export async function vesselBySlug(engine: EngineContext, slug: string): Promise<Vessel> {
  const saved = await selectVessels(engine).where('vessel.slug', '=', slug).execute()
  const [vessel] = await withPauses(engine, saved)
  if (vessel) return vessel
  throw new VesselError('vessel_missing', {
    what: `There is no vessel “${slug}”.`,
    touched: 'Nothing was changed.',
    next: 'Look at the list of vessels.',
    status: 404,
  })
}

export async function vesselById(engine: EngineContext, id: string): Promise<Vessel> {
  const saved = await selectVessels(engine).where('vessel.id', '=', id).executeTakeFirstOrThrow()
  return (await withPauses(engine, [saved]))[0]!
}
