import { simulate, type Simulated, type Simulation } from '~~/core/plan/simulate'

// Simulates plans while the page goes on.

export interface ToSimulation {
  turn: number
  now: Simulated
  /** The plan as it was saved; null where there is none to compare with. */
  saved: Simulated | null
  from: number
  days: number
}
export interface FromSimulation {
  turn: number
  now: Simulation
  /** Of the saved one only its days. */
  saved: Simulation['days'] | null
}

addEventListener('message', ({ data: { turn, now, saved, from, days } }: MessageEvent<ToSimulation>) => {
  const answer: FromSimulation = { turn, now: simulate(now, from, days), saved: saved && simulate(saved, from, days).days }
  postMessage(answer)
})
