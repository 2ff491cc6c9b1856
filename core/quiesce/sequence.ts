import { parseLabelSelector } from '../selection/labels'
import { readTroubles, type ReadFrom } from './reads'
import { namesIn } from './values'

/** What a step does where it runs. Texts may hold values of earlier steps: `{name of the step.name of the value}`. */
export type Act =
  /** On the database that is the member. The session stays open for as long as it is held. */
  | { kind: 'sql'; statement: string }
  /** In a container of the namespace that is the member; no shell comes between. */
  | { kind: 'exec'; selector: string; container: string; pods: Pods; active: string; command: string[] }
  | { kind: 'http'; method: 'GET' | 'POST' | 'PUT' | 'DELETE'; url: string; body: string }
  /** A program in the folder that the administrator allowed. */
  | { kind: 'program'; program: string; arguments: string[] }
  /** Workloads are given fewer replicas; the release gives them back as many as they had. */
  | { kind: 'scale'; workload: 'Deployment' | 'StatefulSet'; name: string; replicas: number }

/** In which of the pods that fit: any one, all of them, or one that the selector of active pods does not fit. */
export type Pods = 'one' | 'all' | 'passive'

export interface HoldStep {
  id: string
  name: string
  /** The member that it holds: `ferry-db/bookings`, `pier/boarding`. */
  member: string
  /** Steps of one turn run at once, turns one after the other; releases the other way round. */
  turn: number
  act: Act
  limitMs: number
  /** When it fails: no backup is made, or one that counts as after a crash. */
  onFailure: 'stop' | 'go on'
  /** What releases it. Scaling knows by itself, and what only prepares has nothing to release. */
  release: Act | null
  /** It is done before the others, and holds nothing by itself: caches are written, an alarm is silenced. */
  prepares?: boolean
}

/** How the members of a vessel are held still together. */
export interface QuiesceSequence {
  steps: HoldStep[]
  /** The longest that anything may be held; then all is released, whatever was reached. */
  budgetMs: number
  /** Volumes that are read from a folder; absent when all are read from their roots. */
  reads?: ReadFrom[]
}

export const NOT_HELD: QuiesceSequence = { steps: [], budgetMs: 5000 }
export const LIMITS = { step: { min: 100, max: 3_600_000 }, budget: { min: 500, max: 3_600_000 } } as const
const MOST_STEPS = 100
const NAME = /^[A-Za-z][\w -]{0,39}$/

/** Steps by turn, in order. */
export function turnsOf(steps: HoldStep[]): HoldStep[][] {
  const turns = [...new Set(steps.map(({ turn }) => turn))].sort((a, b) => a - b)
  return turns.map((turn) => steps.filter((step) => step.turn === turn))
}

export const membersHeld = ({ steps }: QuiesceSequence): string[] => [...new Set(steps.map(({ member }) => member))].sort()

/** Every text of an act that may hold values of other steps. */
export function textsOf(act: Act): string[] {
  if (act.kind === 'sql') return [act.statement]
  if (act.kind === 'exec') return act.command
  if (act.kind === 'http') return [act.url, act.body]
  return act.kind === 'program' ? act.arguments : []
}

/** What an act does, in few words. */
export function actInWords(act: Act): string {
  if (act.kind === 'sql') return act.statement.replaceAll(/\s+/g, ' ').trim()
  if (act.kind === 'exec') return act.command.join(' ')
  if (act.kind === 'http') return `${act.method} ${act.url}`
  if (act.kind === 'program') return [act.program, ...act.arguments].join(' ')
  return `${act.workload} ${act.name} to ${act.replicas}`
}

function actTrouble(act: Act): string | null {
  if (act.kind === 'sql') return act.statement.trim() === '' ? 'it has no statement' : null
  if (act.kind === 'exec') {
    if (act.command.length === 0 || act.command[0]!.trim() === '') return 'it has no command'
    if (act.selector.trim() === '') return 'it does not say by label in which pods it runs'
    if (act.pods === 'passive' && act.active.trim() === '') return 'it does not say by label which pods are the active ones'
    return [act.selector, act.active].map((text) => parseLabelSelector(text).trouble).find((trouble) => trouble !== null) ?? null
  }
  if (act.kind === 'http') return /^https?:\/\/[^/\s]+/.test(act.url) ? null : 'its address must begin with http:// or https://'
  if (act.kind === 'program')
    return /^[\w.-]+$/.test(act.program) && !/^\.+$/.test(act.program) ? null : 'a program is named without its folder'
  if (act.name.trim() === '') return 'it names no workload'
  return Number.isInteger(act.replicas) && act.replicas >= 0 ? null : 'replicas must be a whole number'
}

function stepTroubles(step: HoldStep, earlier: HoldStep[]): string[] {
  const say = (what: string) => `The step “${step.name}”: ${what}.`
  const troubles: string[] = []
  if (!NAME.test(step.name)) troubles.push(say('its name must begin with a letter, and have up to 40 letters, digits, spaces, - or _'))
  if (!/^[^/]+\/[^/]+$/.test(step.member)) troubles.push(say('it belongs to no member'))
  const trouble = actTrouble(step.act)
  if (trouble) troubles.push(say(trouble))
  if (step.prepares && (step.act.kind === 'scale' || step.release !== null))
    troubles.push(say('it only prepares, and has something to release'))
  if (!step.prepares && step.act.kind !== 'scale' && step.release === null) troubles.push(say('nothing says what releases it'))
  const releasing = step.release && actTrouble(step.release)
  if (releasing) troubles.push(say(`of its release, ${releasing}`))
  const { min, max } = LIMITS.step
  if (!Number.isFinite(step.limitMs) || step.limitMs < min || step.limitMs > max)
    troubles.push(say('its limit must lie between 0.1 s and an hour'))
  if (!Number.isInteger(step.turn) || step.turn < 0) troubles.push(say('its turn must be a whole number'))
  const known = new Set(earlier.map(({ name }) => name))
  for (const { step: named } of textsOf(step.act).flatMap(namesIn))
    if (!known.has(named)) troubles.push(say(`it uses a value of “${named}”, and no step before it is called that`))
  for (const { step: named } of step.release ? textsOf(step.release).flatMap(namesIn) : [])
    if (!known.has(named) && named !== step.name) troubles.push(say(`its release uses a value of “${named}”, which is no step before it`))
  return troubles
}

/** What keeps a sequence from being used, in words; empty when nothing does. */
export function quiesceTroubles(quiesce: QuiesceSequence): string[] {
  const { steps, budgetMs } = quiesce
  const troubles: string[] = []
  if (steps.length > MOST_STEPS) troubles.push(`A sequence has at most ${MOST_STEPS} steps.`)
  const { min, max } = LIMITS.budget
  if (!Number.isFinite(budgetMs) || budgetMs < min || budgetMs > max)
    troubles.push('The budget of a hold must lie between 0.5 s and an hour.')
  const names = steps.map(({ name }) => name)
  const twice = names.find((name, i) => names.indexOf(name) < i)
  if (twice !== undefined) troubles.push(`Two steps are called “${twice}”.`)
  for (const step of steps)
    troubles.push(
      ...stepTroubles(
        step,
        steps.filter(({ turn }) => turn < step.turn),
      ),
    )
  return [...troubles, ...readTroubles(quiesce)]
}

/** Turns without gaps, in the same order: what the lanes show as columns. */
export function tidied(steps: HoldStep[]): HoldStep[] {
  return turnsOf(steps).flatMap((turn, at) => turn.map((step) => ({ ...step, turn: at })))
}

/** A step moved to another turn, by itself between two turns (`between`) or together with those that are there. */
export function moved(steps: HoldStep[], id: string, to: number, between = false): HoldStep[] {
  return tidied(
    steps.map((step) => {
      if (step.id === id) return { ...step, turn: between ? to : to + 0.5 }
      return { ...step, turn: between && step.turn >= to ? step.turn + 1 : between ? step.turn : step.turn + 0.5 }
    }),
  )
}
