import { defineNitroPlugin } from 'nitropack/runtime'
import { useEngine } from '../utils/engine'

export default defineNitroPlugin((nitro) => {
  process.on('unhandledRejection', (error) => console.error('not handled:', error))
  const engine = useEngine()
  engine.catch((error: Error) => {
    console.error(`The engine could not start: ${error.message}`)
    process.exit(1)
  })
  nitro.hooks.hook('close', async () => (await engine).close())
})
