import { createHmac, hkdfSync, timingSafeEqual } from 'node:crypto'

/** Keys of one store, derived from its 32-byte store key with HKDF-SHA-256, salted with the store's id. */
export interface StoreKeys {
  /** Names chunks: HMAC-SHA-256 of the digest of their plain bytes. */
  name: Buffer
  /** Seals records of points and segments: AES-256-GCM. */
  seal: Buffer
  /** Seals chunks. */
  chunks: ChunkKey
}

/** What chunks are sealed with: in stores of the first form all with one key, since then each with one of its own. */
export interface ChunkKey {
  key: Uint8Array
  each: boolean
}

/** The form in which content lies in a store; 1 named its chunks another way, and can't be read any more. */
export type StoreVersion = 2 | 3

/**
 * The key for one chunk. Nonces are random, and a key must not be used for more than 2^32 of them; a chunk is sealed
 * once or a few times only.
 */
export const keyOfChunk = ({ key, each }: ChunkKey, name: Uint8Array): Buffer =>
  each ? createHmac('sha256', key).update(name).digest() : Buffer.from(key)

export function deriveKeys(storeKey: Buffer, storeId: string, version: StoreVersion): StoreKeys {
  const derive = (use: string) => Buffer.from(hkdfSync('sha256', storeKey, storeId, `unbroken vessel ${use}`, 32))
  const chunks = version === 2 ? { key: derive('seal'), each: false } : { key: derive('chunks'), each: true }
  return { name: derive('name'), seal: derive('seal'), chunks }
}

/** Kept in the open in the store's header, so that a wrong key is noticed before anything is read. */
export function keyCheck(keys: StoreKeys, storeId: string): string {
  return createHmac('sha256', keys.name).update(`key check of ${storeId}`).digest('hex')
}

export function matchesCheck(keys: StoreKeys, storeId: string, check: string): boolean {
  const expected = Buffer.from(keyCheck(keys, storeId))
  const given = Buffer.from(check)
  return expected.length === given.length && timingSafeEqual(expected, given)
}
