import { Engine, optionsFromEnvironment } from '../engine'

// A worker of its own (bin/worker): claims runs from the catalog until it is told to stop.

// Whatever is forgotten somewhere ends nobody's runs: it is told, and the worker goes on.
process.on('unhandledRejection', (error) => console.error('not handled:', error))

const engine = await Engine.start(optionsFromEnvironment(process.env))
await engine.work({ alone: false })
console.log('The worker waits for runs.')

const stop = async () => {
  console.log('The worker takes no more runs.')
  await engine.close()
  process.exit(0)
}
process.on('SIGTERM', () => void stop())
process.on('SIGINT', () => void stop())
