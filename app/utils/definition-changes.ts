import type { WholeDefinition } from '~/stores/draft'
import type { Schedule } from '~~/core/plan/schedule'
import { ruleInWords, type Retention } from '~~/core/plan/retention'
import { timesInWords } from '~~/core/plan/words'
import { listInWords, plural } from './words'

const differ = (before: unknown, now: unknown) => JSON.stringify(before) !== JSON.stringify(now)

const linesInWords = ({ lines }: Schedule) => listInWords(lines.map(({ name, times }) => `${name}, ${timesInWords(times)}`))

const keptInWords = ({ rules }: Retention) => listInWords(rules.map(ruleInWords))

/**
 * What saving a definition would change, a sentence for each change.
 *
 * @param than how many things the new rules take that the saved ones did not, and the other way round; null while not known
 */
export function changesInWords(now: WholeDefinition, before: WholeDefinition, than: { fresh: number; dropped: number } | null): string {
  const parts: string[] = []
  const { fresh, dropped } = than ?? { fresh: 0, dropped: 0 }
  if (fresh > 0) parts.push(`${plural(fresh, 'thing')} ${fresh === 1 ? 'is' : 'are'} taken that ${fresh === 1 ? 'was' : 'were'} not.`)
  if (dropped > 0) parts.push(`${plural(dropped, 'thing')} ${dropped === 1 ? 'is' : 'are'} taken no more.`)
  if (now.store !== before.store) parts.push(`Points go to ${now.store} from now on; those in ${before.store} stay.`)
  if (differ(now.promises, before.promises)) parts.push('Other promises are made.')
  if (now.schedule && !before.schedule) parts.push(`It is backed up by itself from now on: ${linesInWords(now.schedule)}.`)
  else if (!now.schedule && before.schedule) parts.push('It is backed up only when somebody says so.')
  else if (differ(now.schedule, before.schedule)) parts.push(`Its plan is another one: ${linesInWords(now.schedule!)}.`)
  if (now.retention && !before.retention) parts.push(`Points go by themselves from now on; what stays: ${keptInWords(now.retention)}.`)
  else if (!now.retention && before.retention) parts.push('Points stay until somebody deletes them.')
  else if (differ(now.retention, before.retention)) parts.push(`What stays is another: ${keptInWords(now.retention!)}.`)
  if (now.log.follow && !before.log.follow) parts.push('The log is followed from now on; a full begins by itself.')
  else if (!now.log.follow && before.log.follow) parts.push('The log is not followed any more, and nothing of ours stays at the source.')
  else if (differ(now.log, before.log)) parts.push('The log is followed in another way.')
  const [steps, hadSteps] = [now.quiesce.steps.length, before.quiesce.steps.length]
  if (steps > 0 && hadSteps === 0) parts.push('Members are quiesced from now on.')
  else if (steps === 0 && hadSteps > 0) parts.push('Nothing is held any more.')
  else if (differ(now.quiesce, before.quiesce)) parts.push('Members are held in another way.')
  if (now.partly !== before.partly)
    parts.push(now.partly === 'fail' ? 'A point is made of everything or not at all.' : 'A point is made of what can be captured.')
  if (now.readers !== before.readers) parts.push(`${plural(now.readers, 'reader')} instead of ${before.readers}.`)
  if (parts.length === 0 && than) parts.push('The rules are written differently and take the same.')
  return parts.join(' ')
}
