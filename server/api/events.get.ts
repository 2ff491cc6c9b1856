import { createEventStream, defineEventHandler } from 'h3'
import type { Change } from '../../engine/notify'
import { useEngine } from '../utils/engine'

const ALIVE_MS = 15_000

/** Changes as they happen. `again` means that some may have been missed, so that everything is asked for anew. */
export default defineEventHandler(async (event) => {
  const engine = await useEngine()
  const stream = createEventStream(event)
  const send = (name: string, data: unknown) => void stream.push({ event: name, data: JSON.stringify(data) })
  const onChange = (change: Change) => send('change', change)
  const onAgain = () => send('again', {})
  engine.changes.on('change', onChange).on('again', onAgain)
  const alive = setInterval(() => send('alive', {}), ALIVE_MS)
  stream.onClosed(async () => {
    clearInterval(alive)
    engine.changes.off('change', onChange).off('again', onAgain)
  })
  send('alive', {})
  return stream.send()
})
