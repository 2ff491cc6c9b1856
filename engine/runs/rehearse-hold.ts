import { folderToRead } from '../../core/quiesce/reads'
import type { QuiesceSequence } from '../../core/quiesce/sequence'
import { durationInWords } from '../../core/time/words'
import { HoldSequence } from '../holds/sequence'
import type { RunContext } from './context'

/** Holds and releases for real, and does nothing else: what a backup would freeze, and for how long. */
export async function rehearseHold(run: RunContext, { quiesce }: { quiesce: QuiesceSequence }): Promise<void> {
  const hold = new HoldSequence(run, quiesce)
  await hold.plan()
  try {
    await hold.begin()
  } finally {
    await hold.release()
  }
  const stretch = await hold.stretch()
  if (stretch) await run.say('info', `Everything was held ${durationInWords(stretch.from - hold.begunAt)} after the first step began.`)
  for (const { volume } of quiesce.reads ?? []) {
    const { folder, trouble } = folderToRead(quiesce, volume, hold.values)
    await run.say(
      trouble === null ? 'info' : 'warning',
      trouble === null ? `${volume} would be read from ${folder}.` : `${volume}: ${trouble}`,
    )
  }
  await run.end(run.warnings > 0 ? 'warned' : 'done', { outcome: { held: stretch !== null } })
}
