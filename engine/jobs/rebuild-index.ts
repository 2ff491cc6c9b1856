import { openStore } from '../catalog/stores'
import { Engine, optionsFromEnvironment } from '../engine'
import { rebuildIndex } from '../store/rebuild'

// bin/rebuild-index STORE: makes the index of a store anew from its packs. It can be interrupted and begun again.

const [name] = process.argv.slice(2)
if (!name) {
  console.error('Which store? bin/rebuild-index NAME')
  process.exit(2)
}
const engine = await Engine.start(optionsFromEnvironment(process.env))
try {
  const { packs, added, torn } = await rebuildIndex(await openStore(engine, { name }), (done, of) => {
    if (done % 100 === 0) console.log(`${done} of ${of} packs`)
  })
  for (const { path, position } of torn)
    console.warn(`${path} does not hold together from byte ${position} on; what lies before it is in the index.`)
  console.log(`${packs} packs lie there; ${added} were put into the index, the others were in it.`)
} finally {
  await engine.close()
}
