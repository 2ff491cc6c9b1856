import { randomBytes, randomUUID } from 'node:crypto'
import { access } from 'node:fs/promises'
import { isAbsolute, join, normalize } from 'node:path'
import { VesselError } from '../../core/errors'
import { CLOCK } from '../../core/plan/schedule'
import type { Price } from '../../core/plan/simulate'
import { nameTrouble } from '../../core/things/name'
import { isZone } from '../../core/time/zone'
import type { EngineContext } from '../context'
import type { PruneTimes } from './retention-types'
import { notify } from '../notify'
import { FolderBackend, type Backend } from '../store/folder'
import { ChunkIndex } from '../store/index'
import { deriveKeys, keyCheck, matchesCheck, type StoreVersion } from '../store/keys'
import { Store } from '../store/store'
import { allVessels, vesselBySlug, type Vessel } from './vessels'

export const STORE_NAME_LENGTH = 63

const HEADER = 'store.json'
/** The form of stores that are made now. */
export const STORE_VERSION: StoreVersion = 3
const READABLE: unknown[] = [2, STORE_VERSION]

interface Header {
  format: 'unbroken-vessel-store'
  version: StoreVersion
  id: string
  keyCheck: string
}

export interface PlaceReport {
  path: string
  /** Whether a store lies there already. */
  existing: boolean
  free: number
  total: number
}

/** Looks at a folder before it becomes a store: at rights and space. Nothing is made. */
export async function checkPlace(path: string): Promise<PlaceReport> {
  if (!isAbsolute(path) || normalize(path) !== path.replace(/\/+$/, '')) {
    throw new VesselError('store_path', {
      what: `“${path}” is not an absolute path.`,
      touched: 'Nothing was made.',
      next: 'Write the path from the root, as in /srv/dry-dock.',
    })
  }
  const backend = new FolderBackend(path)
  const space = await backend.look()
  const existing = await access(join(path, HEADER)).then(
    () => true,
    () => false,
  )
  return { path, existing, ...space }
}

/**
 * Makes a store in a folder, or opens one that is there with its key.
 * @returns the store key in hex, to be kept by the person; it is not shown again.
 */
export async function addStore(
  engine: EngineContext,
  options: { name: string; path: string; key?: string },
): Promise<{ id: string; key: string }> {
  const name = options.name.trim()
  await ensureFree(engine, name, options.path)
  const place = await checkPlace(options.path)
  const backend = new FolderBackend(options.path)
  if (place.existing) {
    throw new VesselError('store_exists', {
      what: `A store lies in ${options.path} already.`,
      touched: 'Nothing was changed there.',
      next: 'Choose an empty folder. Adopting a store that another installation wrote is not possible yet.',
      status: 409,
    })
  }
  const id = randomUUID()
  const key = options.key ? readKey(options.key) : randomBytes(32)
  await backend.prepare()
  const header: Header = {
    format: 'unbroken-vessel-store',
    version: STORE_VERSION,
    id,
    keyCheck: keyCheck(deriveKeys(key, id, STORE_VERSION), id),
  }
  const file = await backend.create(HEADER)
  await file.append(Buffer.from(`${JSON.stringify(header, null, 2)}\n`))
  await file.commit()
  await engine.db
    .insertInto('store')
    .values({
      id,
      name,
      kind: 'folder',
      settings: JSON.stringify({ path: options.path }),
      sealed_key: engine.secrets.seal(key, `store ${id}`),
      created_at: engine.clock.now(),
    })
    .execute()
  await notify(engine.db, { about: 'store' })
  return { id, key: key.toString('hex') }
}

function readKey(text: string): Buffer {
  if (!/^[0-9a-f]{64}$/i.test(text.trim())) {
    throw new VesselError('store_key_malformed', {
      what: 'A store key is 64 hex digits; this is something else.',
      touched: 'Nothing was made.',
      next: 'Leave it empty to have one made.',
    })
  }
  return Buffer.from(text.trim(), 'hex')
}

async function ensureFree(engine: EngineContext, name: string, path: string): Promise<void> {
  const trouble = nameTrouble(name, STORE_NAME_LENGTH)
  if (trouble) throw new VesselError('store_name', { what: trouble, touched: 'Nothing was made.', next: 'Give it another name.' })
  const stores = await engine.db.selectFrom('store').select(['name', 'settings']).execute()
  const same = stores.find((store) => store.name === name || store.settings.path === path)
  if (!same) return
  throw new VesselError('store_exists', {
    what: same.name === name ? `There is a store called ${name} already.` : `${path} is the place of the store ${same.name} already.`,
    touched: 'Nothing was made.',
    next: 'Choose another name or place.',
    status: 409,
  })
}

/**
 * Opens a store for reading and writing.
 * @throws VesselError `store_missing`, `store_key_wrong`, and those of its backend.
 */
export async function openStore(engine: EngineContext, idOrName: { id?: string; name?: string }): Promise<Store> {
  let query = engine.db.selectFrom('store').selectAll()
  query = idOrName.id ? query.where('id', '=', idOrName.id) : query.where('name', '=', idOrName.name ?? '')
  const row = await query.executeTakeFirst()
  if (!row) throw storeMissing(idOrName.name ?? idOrName.id)
  const backend = new FolderBackend(row.settings.path)
  const header = await readHeader(backend)
  const keys = deriveKeys(engine.secrets.open(row.sealed_key, `store ${row.id}`), row.id, header.version)
  const store = new Store(row.id, row.name, backend, keys, new ChunkIndex(engine.db, row.id), engine.content)
  matchHeader(store, header)
  return store
}

export const storeMissing = (name = 'with this id') =>
  new VesselError('store_missing', {
    what: `There is no store ${name}.`,
    touched: 'Nothing was changed.',
    next: 'Choose a store that exists.',
    status: 404,
  })

/** Whether what lies at a store's place is that store. @throws VesselError when it is not there, or is another one */
export async function checkHeader(store: Store): Promise<void> {
  matchHeader(store, await readHeader(store.backend))
}

function matchHeader(store: Store, header: Header): void {
  if (header.id === store.id && matchesCheck(store.keys, store.id, header.keyCheck)) return
  throw new VesselError('store_key_wrong', {
    what: `The key that is kept for the store ${store.name} does not fit what lies in ${store.backend.place}.`,
    touched: 'Nothing was read or written.',
    next: 'See whether the right disk is mounted there. Without its own key a store can’t be read.',
  })
}

async function readHeader(backend: Backend): Promise<Header> {
  const text = (await backend.readAll(HEADER)).toString()
  let header: Partial<Header> = {}
  try {
    header = JSON.parse(text) as Header
  } catch {
    // Told below, as for a header of another form.
  }
  if (header.format === 'unbroken-vessel-store' && READABLE.includes(header.version)) return header as Header
  if (header.format === 'unbroken-vessel-store')
    throw new VesselError('store_version', {
      what: `The store in ${backend.place} has version ${header.version} of its form, and this program reads versions ${READABLE.join(' and ')}.`,
      touched: 'Nothing was read or written.',
      next: 'Use the program that it was made with to restore from it, and make a new store for this one.',
    })
  throw new VesselError('store_header', {
    what: `${join(backend.place, HEADER)} is not the header of a store that can be read.`,
    touched: 'Nothing was read or written.',
    next: 'See whether the right disk is mounted there, or put the header back from a copy.',
  })
}

/** Sets when a store is pruned by itself; null: only when somebody says so. @throws VesselError `prune_times` */
export async function setPruneTimes(engine: EngineContext, id: string, times: PruneTimes | null): Promise<void> {
  if (times && (!isZone(times.zone) || !CLOCK.test(times.at)))
    throw new VesselError('prune_times', {
      what: `“${times.at}” of the zone “${times.zone}” is no time of the day.`,
      touched: 'Nothing was saved.',
      next: 'Write the time as 04:30, and choose a zone from the list.',
    })
  await setOfStore(engine, id, { prune: times && JSON.stringify(times) })
}

/** Sets what a store costs; null: nobody knows. */
export function setPrice(engine: EngineContext, id: string, price: Price | null): Promise<void> {
  return setOfStore(engine, id, { price: price && JSON.stringify(price) })
}

/** Sets how many runs may work with it at once; null: as many as there are. */
export const setStoreAtOnce = (engine: EngineContext, id: string, atOnce: number | null): Promise<void> =>
  setOfStore(engine, id, { at_once: atOnce })

async function setOfStore(
  engine: EngineContext,
  id: string,
  set: { prune?: string | null; price?: string | null; at_once?: number | null },
): Promise<void> {
  const { numUpdatedRows } = await engine.db.updateTable('store').set(set).where('id', '=', id).executeTakeFirst()
  if (numUpdatedRows === 0n) throw storeMissing()
  await notify(engine.db, { about: 'store' })
}

/** Vessels that keep their points in a store, by its name. */
export const vesselsKeeping = async (engine: EngineContext, store: string): Promise<Vessel[]> =>
  (await allVessels(engine)).filter(({ definition }) => definition.store === store)

/** A vessel of which something lies in a store, or that keeps its points there: runs that look after the store are told with it. */
export async function vesselOfStore(engine: EngineContext, id: string): Promise<{ vessel: Vessel; store: string }> {
  const row = await engine.db.selectFrom('store').select('name').where('id', '=', id).executeTakeFirst()
  const found = await engine.db
    .selectFrom('point')
    .innerJoin('vessel', 'vessel.id', 'point.vessel_id')
    .select('vessel.slug')
    .where('point.store_id', '=', id)
    .orderBy('point.at', 'desc')
    .executeTakeFirst()
  const slug = found?.slug ?? (row && (await vesselsKeeping(engine, row.name))[0]?.slug)
  if (row && slug) return { vessel: await vesselBySlug(engine, slug), store: row.name }
  throw new VesselError(row ? 'store_unused' : 'store_missing', {
    what: row ? `Nothing lies in ${row.name} yet, and no vessel keeps its points there.` : 'There is no such store.',
    touched: 'Nothing was begun.',
    next: row ? 'Choose it in the definition of a vessel.' : 'Look at the list of stores.',
    status: row ? 409 : 404,
  })
}
