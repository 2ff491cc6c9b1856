import { membersHeld, turnsOf, type HoldStep, type QuiesceSequence } from './sequence'

/** A step as it was measured, in milliseconds from the beginning of the first one. */
export interface MeasuredStep {
  name: string
  member: string
  begun: number
  /** When it held; null when it did not come about. */
  held: number | null
  released: number | null
}

export interface Bar {
  step: HoldStep
  /** Whether its times were measured; else they are assumed. */
  measured: boolean
  begun: number
  held: number
  released: number
}

export interface Lanes {
  members: { member: string; bars: Bar[] }[]
  /** The stretch in which everything is held; null when there is no step. */
  all: { from: number; to: number } | null
  /** From the first step to the last release. */
  total: number
}

/** What a step and a capture are assumed to take until they were measured. */
const ASSUMED_STEP_MS = 200
const ASSUMED_CAPTURE_MS = 500
const ASSUMED_RELEASE_MS = 100

/**
 * The sequence as lanes over time: with the times of the last run where a step was in it, with assumed ones for the
 * others.
 */
export function lanesOf(quiesce: QuiesceSequence, measured: MeasuredStep[], members: string[]): Lanes {
  const { steps } = quiesce
  const preparing = new Set(steps.filter(({ prepares }) => prepares).map(({ member, name }) => `${member}\n${name}`))
  const holding = measured.filter(({ member, name }) => !preparing.has(`${member}\n${name}`))
  const known = new Map(measured.map((step) => [`${step.member}\n${step.name}`, step]))
  const of = (step: HoldStep) => {
    const found = known.get(`${step.member}\n${step.name}`)
    return found?.held !== null && found?.released !== null ? found : undefined
  }
  const bars: Bar[] = []
  let begun = 0
  for (const turn of turnsOf(steps)) {
    // How long it took is kept, whatever turn it has now.
    const taking = turn.map((step) => ({
      step,
      took: (of(step)?.held ?? ASSUMED_STEP_MS) - (of(step)?.begun ?? 0),
      measured: of(step) !== undefined,
    }))
    for (const { step, took, measured: isMeasured } of taking)
      bars.push({ step, measured: isMeasured, begun, held: begun + took, released: 0 })
    begun += Math.max(...taking.map(({ took }) => took))
  }
  const reached = begun
  const lastHeld = Math.max(0, ...holding.map(({ held }) => held ?? 0))
  const firstReleased = Math.min(...holding.flatMap(({ released }) => (released === null ? [] : [released])))
  const measuredCapture = Number.isFinite(firstReleased) && holding.length > 0 ? Math.max(0, firstReleased - lastHeld) : null
  let end = reached + (measuredCapture ?? ASSUMED_CAPTURE_MS)
  const to = end
  for (const turn of turnsOf(steps).reverse()) {
    end += ASSUMED_RELEASE_MS
    for (const bar of bars) if (turn.includes(bar.step)) bar.released = bar.step.prepares ? bar.held : end
  }
  const all = [...new Set([...members, ...membersHeld(quiesce)])]
  return {
    members: all.map((member) => ({ member, bars: bars.filter(({ step }) => step.member === member) })),
    all: bars.every(({ step }) => step.prepares) ? null : { from: reached, to },
    total: bars.length === 0 ? 0 : end,
  }
}
