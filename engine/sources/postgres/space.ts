import { readFile, statfs } from 'node:fs/promises'
import { join } from 'node:path'
import type pg from 'pg'
import type { PostgresAccess } from './connect'

const LOOPBACK = new Set(['127.0.0.1', '::1', 'localhost'])

/**
 * Free bytes where the server's data lies, or its log (`pg_wal` may be on a disk of its own): known only when it runs on
 * this machine and its folder can be seen.
 */
export async function freeSpace(client: pg.Client, access: PostgresAccess, of: 'data' | 'log' = 'data'): Promise<number | null> {
  if (!LOOPBACK.has(access.settings.host)) return null
  try {
    const { rows } = await client.query<{ folder: string }>(
      `select setting as folder from pg_catalog.pg_settings where name = 'data_directory'`,
    )
    const folder = rows[0]!.folder
    // The port in its lock file shows that it is this server's folder, not that of another one at the end of a tunnel.
    const lock = await readFile(join(folder, 'postmaster.pid'), 'utf8')
    if (Number(lock.split('\n')[3]) !== access.settings.port) return null
    const { bavail, bsize } = await statfs(of === 'log' ? join(folder, 'pg_wal') : folder)
    return bavail * bsize
  } catch {
    return null
  }
}
