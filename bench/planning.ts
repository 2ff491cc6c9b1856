import { fromAbsolute } from '@internationalized/date'
import { countInWords } from '../core/time/words'
import { comingPlaces } from '../core/plan/cycle'
import { longestBetween } from '../core/plan/loss'
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
  report('Plans', `${countInWords(VESSELS)} plans in five zones, a third of each way to say when`, figures.all)
}
