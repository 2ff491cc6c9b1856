import { openStore } from '../catalog/stores'
import { rebuildIndex } from '../store/rebuild'
import type { RunContext } from './context'

/**
 * Makes the index of a store anew from its packs, as far as it is lost. What is in the index stays as it is,
 * so that a run that was ended is gone on with by the next.
 */
export async function reindex(run: RunContext, name: string): Promise<void> {
  const store = await openStore(run.engine, { name })
  const step = await run.plan({ kind: 'reindex', member: store.name, title: 'Packs' })
  const { packs, added, torn } = await run.step(step, (count) =>
    rebuildIndex(store, (done, of) => {
      run.signal.throwIfAborted()
      if (done === 1) run.expect('packs', of)
      count('packs', 1)
    }),
  )
  for (const { path, position } of torn)
    await run.say('warning', `${path} does not hold together from byte ${position} on; what lies before it is in the index.`)
  await run.end(torn.length > 0 ? 'warned' : 'done', { outcome: { packs, added, torn: torn.length } })
}
