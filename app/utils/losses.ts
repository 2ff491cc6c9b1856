import { capital } from '~~/core/time/words'
import type { Loss, LossWay } from '~~/server/views'

// How losses and the ways back from them are told.

/** When it was; between which times, where only looking told of it. */
export const whenLost = ({ at, after }: Pick<Loss, 'at' | 'after'>) =>
  after ? `${dayOf(at)}, between ${secondsOf(after)} and ${secondsOf(at)}` : `${dayOf(at)}, ${secondsOf(at)}`

export function wayInWords({ kind, at, vessel }: LossWay): string {
  if (kind === 'undo') return 'Put just these rows back…'
  return kind === 'moment' ? 'Restore from just before it…' : `Restore from the point of ${whenOf(at)}, ${vessel.name}…`
}

/** What a way would not bring. */
export function withoutInWords({ kind, without }: LossWay): string {
  if (kind === 'undo') return ['keeps what was changed since', without].filter(Boolean).join(', ')
  if (without === null) return 'loses nothing'
  return kind === 'moment' ? without : `loses ${without}`
}

/** The same as a sentence; one that begins with the name of a table keeps it as it is. */
export function withoutAsSentence(way: LossWay): string {
  const words = withoutInWords(way)
  const begins = way.kind === 'moment' && way.without !== null ? words : capital(words)
  return begins.endsWith('.') ? begins : `${begins}.`
}

/** A way of a vessel that starts from a younger state of something than a restore does, and loses less. */
export function betterWay(losses: Loss[], slug: string, paths: string[], chosen: { id: string; at: string } | undefined): LossWay | null {
  if (!chosen) return null
  const picked = new Set(paths)
  const ways = losses.filter((loss) => loss.paths.some((path) => picked.has(path))).flatMap((loss) => loss.ways)
  return (
    ways.find(
      ({ kind, vessel, ref, at }) => kind !== 'undo' && vessel.slug === slug && ref !== chosen.id && Date.parse(at) > Date.parse(chosen.at),
    ) ?? null
  )
}
