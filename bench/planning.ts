import { fromAbsolute } from '@internationalized/date'
import { Chains, type Artifact } from '../core/chain/chain'
import { staysOf } from '../core/chain/stays'
import { countInWords } from '../core/time/words'
import { comingPlaces } from '../core/plan/cycle'
import { keepPoints } from '../core/plan/keep'
import { longestBetween } from '../core/plan/loss'
import { defaultRetention } from '../core/plan/retention'
import type { PlanLine, Schedule, Times } from '../core/plan/schedule'
import { Figures, report } from './support'

// Plans, by core alone: what is due next, and what a plan can promise.

const VESSELS = Number(process.env.VESSELS ?? 10_000)
const ZONES = ['Europe/Berlin', 'America/New_York', 'Asia/Tokyo', 'Australia/Lord_Howe', 'UTC']
const NOW = Date.UTC(2026, 10, 29, 15)

const clock = (minute: number) => `${String(Math.floor(minute / 60) % 24).padStart(2, '0')}:${String(minute % 60).padStart(2, '0')}`
const timesOf = (i: number): Times =>
  i % 3 === 0
    ? { kind: 'every', count: 1 + (i % 48), unit: 'hours' }
    : i % 3 === 1
      ? { kind: 'days', at: [clock(i * 7)], on: { of: 'week', days: [1 + (i % 7)] } }
      : { kind: 'cron', expression: `${i % 20} ${i % 12} * * 1-5` }

function scheduleOf(i: number): Schedule {
  const line: PlanLine = {
    id: 'a',
    name: 'a',
    times: timesOf(i),
    makes: { kind: 'cycle', points: 7, first: 'full', rest: 'differential' },
  }
  return { zone: ZONES[i % ZONES.length]!, from: '2026-01-01T00:00:00Z', lines: [line], meanwhile: 'wait' }
}

function milliseconds(work: () => unknown): number {
  const began = performance.now()
  work()
  return performance.now() - began
}

const POINTS = 100_000
/** One an hour, the oldest first; one of fifty is not good. */
const agingOf = (i: number) => {
  const at = NOW - (POINTS - i) * 3_600_000
  return { id: String(i), at, isGood: i % 50 !== 0, isPlanned: true, term: null, pin: null }
}
/** Cycles of seven. */
function artifactOf({ id, at }: { id: string; at: number }): Artifact {
  const [i, time] = [Number(id), new Date(at)]
  const isFull = i % 7 === 0
  const position = `0/${i.toString(16).toUpperCase()}`
  const parent = isFull ? null : String(i - 1)
  const place = { from: position, to: position, fromAt: time, at: time, era: '1' }
  return { id, member: 'a', kind: isFull ? 'full' : 'incremental', parent, ...place, rows: 1, bytes: 1, stored: 1 }
}

export async function planning(): Promise<void> {
  const figures = new Figures()
  const schedules = Array.from({ length: VESSELS }, (_, i) => scheduleOf(i))
  const asking = milliseconds(() => schedules.forEach(({ zone }, i) => fromAbsolute(NOW + i * 1000, zone).offset))
  const next = milliseconds(() => schedules.forEach((schedule) => comingPlaces(schedule, schedule.lines[0]!, null, NOW).next()))
  figures.tell(`The next run of ${countInWords(VESSELS)} vessels, with what it makes`, next, 200, 'ms', true)
  figures.tell('The same, against asking the calendar once for each', next / asking, 2, '×', true)
  const [nightly] = schedules.filter(({ lines }) => lines[0]!.times.kind === 'days')
  const longest = milliseconds(() => longestBetween(nightly!, NOW))
  figures.tell('The longest time between two points of a plan, over a year', longest, 50, 'ms', true)
  const retention = { ...defaultRetention(), rules: [...defaultRetention().rules, { kind: 'last' as const, points: 100 }] }
  const points = Array.from({ length: POINTS }, (_, i) => agingOf(i))
  const coming = Array.from({ length: 3000 }, (_, i) => NOW + i * 3_600_000)
  const keeping = milliseconds(() => keepPoints({ points, retention, zone: 'Europe/Berlin', now: NOW, coming }))
  figures.tell(`Which of ${countInWords(POINTS)} points stay, until when and why`, keeping, 200, 'ms', true)
  const marks = points.map(artifactOf)
  const chains = new Chains(marks)
  const kept = new Set(points.filter((_, i) => i % 10 === 0).map(({ id }) => id))
  const held = { marks, points: marks.map(({ id, at }) => ({ id, at, artifacts: [id] })) }
  const staying = milliseconds(() => staysOf(held, chains, kept, new Date(NOW - 72 * 3_600_000)))
  figures.tell('What those need that stay', staying, 200, 'ms', true)
  report('Plans', `${countInWords(VESSELS)} plans in five zones, a third of each way to say when`, figures.all)
}
