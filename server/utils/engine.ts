import { Engine, optionsFromEnvironment } from '../../engine/engine'

let starting: Promise<Engine> | undefined

/** The one engine of this process. It is started once; a start that failed is tried again with the next request. */
export function useEngine(): Promise<Engine> {
  starting ??= start()
  starting.catch(() => (starting = undefined))
  return starting
}

async function start(): Promise<Engine> {
  const engine = await Engine.start(optionsFromEnvironment(process.env))
  // VESSEL_WORKER: `alone` when no other worker exists, `off` when others do all the work.
  const worker = process.env.VESSEL_WORKER ?? 'on'
  if (worker !== 'off') await engine.work({ alone: worker === 'alone' })
  return engine
}
