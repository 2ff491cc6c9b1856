import type { EngineContext } from '../context'

export interface Found {
  path: string
  kind: string
  gone: boolean
}

/** Things whose path holds every word of the text; at most 20, the shortest first. */
export async function findThings(engine: EngineContext, text: string): Promise<Found[]> {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean)
  if (words.length === 0) return []
  let query = engine.db
    .selectFrom('thing')
    .select(['path', 'kind', 'gone_at'])
    .orderBy((eb) => eb.fn('length', ['path']))
    .limit(20)
  for (const word of words)
    query = query.where((eb) => eb(eb.fn<number>('strpos', [eb.fn<string>('lower', ['path']), eb.val(word)]), '>', 0))
  const rows = await query.execute()
  return rows.map(({ path, kind, gone_at: goneAt }) => ({ path, kind, gone: goneAt !== null }))
}
