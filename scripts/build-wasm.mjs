// Compiles core/content/assembly/rows.ts to WebAssembly and writes it beside its source as a module with
// the binary in base64, so that core needs no file access to load it (it runs in the browser too).
import asc from 'assemblyscript/asc'
import { writeFile } from 'node:fs/promises'

const source = 'core/content/assembly/rows.ts'
const { error, stderr, binary } = await compile()
if (error) {
  console.error(stderr)
  throw error
}
const text = Buffer.from(binary).toString('base64')
await writeFile('core/content/assembly/rows.wasm.ts', `export const rowsWasm =\n  '${text}'\n`)

async function compile() {
  let binary
  const result = await asc.main([source, '-o', 'rows.wasm', '-O3', '--runtime', 'stub', '--noAssert', '--enable', 'bulk-memory'], {
    writeFile: (name, contents) => {
      if (name === 'rows.wasm') binary = contents
    },
  })
  return { error: result.error, stderr: result.stderr?.toString(), binary }
}
