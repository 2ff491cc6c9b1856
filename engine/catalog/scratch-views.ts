import type { ErrorRecord } from '../../core/errors'
import { VesselError } from '../../core/errors'
import type { EngineContext } from '../context'
import { accessById } from './sources'

export interface ScratchCopy {
  id: string
  run: string
  source: string
  database: string
  state: 'making' | 'ready' | 'gone'
  createdAt: Date
  expiresAt: Date
  trouble: ErrorRecord | null
}

/** Scratch copies of a vessel that are there, the newest first. */
export function scratchCopies(engine: EngineContext, vesselId: string): Promise<ScratchCopy[]> {
  return engine.db
    .selectFrom('scratch')
    .innerJoin('source', 'source.id', 'scratch.source_id')
    .select(['scratch.id', 'scratch.run_id as run', 'source.name as source', 'scratch.database', 'scratch.state', 'scratch.trouble'])
    .select(['scratch.created_at as createdAt', 'scratch.expires_at as expiresAt'])
    .where('scratch.vessel_id', '=', vesselId)
    .where('scratch.state', '<>', 'gone')
    .orderBy('scratch.created_at', 'desc')
    .execute()
}

/** How to reach a scratch copy: with a role of its own, or the connecting role without its password where none could be made. */
export async function scratchConnection(engine: EngineContext, id: string): Promise<string> {
  const row = await engine.db.selectFrom('scratch').selectAll().where('id', '=', id).where('state', '=', 'ready').executeTakeFirst()
  if (!row) {
    throw new VesselError('scratch_gone', {
      what: 'This scratch copy is not there, or not ready yet.',
      touched: 'Nothing was changed.',
      next: 'Make another one.',
      status: 404,
    })
  }
  const { settings } = await accessById(engine, row.source_id)
  const password = row.sealed_password ? `:${encodeURIComponent(engine.secrets.open(row.sealed_password, `scratch ${id}`).toString())}` : ''
  const user = encodeURIComponent(row.role ?? settings.user)
  const tls = settings.tls === 'off' ? '' : '?sslmode=require'
  return `postgresql://${user}${password}@${settings.host}:${settings.port}/${encodeURIComponent(row.database)}${tls}`
}
