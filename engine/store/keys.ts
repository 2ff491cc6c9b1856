import { createHmac, hkdfSync, timingSafeEqual } from 'node:crypto'

/** Keys of one store, derived from its 32-byte store key with HKDF-SHA-256, salted with the store's id. */
export interface StoreKeys {
  /** Names chunks: HMAC-SHA-256 of the digest of their plain bytes. */
  name: Buffer
  /** Seals chunks and point records: AES-256-GCM. */
  seal: Buffer
}

export function deriveKeys(storeKey: Buffer, storeId: string): StoreKeys {
  const derive = (use: string) => Buffer.from(hkdfSync('sha256', storeKey, storeId, `unbroken vessel ${use}`, 32))
  return { name: derive('name'), seal: derive('seal') }
}

/** Kept in the open in the store's header, so that a wrong key is noticed before anything is read. */
export function keyCheck(keys: StoreKeys, storeId: string): string {
  return createHmac('sha256', keys.name).update(`key check of ${storeId}`).digest('hex')
}

export function matchesCheck(keys: StoreKeys, storeId: string, check: string): boolean {
  const own = Buffer.from(keyCheck(keys, storeId))
  const given = Buffer.from(check)
  return own.length === given.length && timingSafeEqual(own, given)
}
