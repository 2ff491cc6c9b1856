// Makes what was built independent of where the checkout lies: the bundler writes down where each package is, from the
// root of the disk on. A package is told by its way from the file that needs it instead.
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { dirname, join, relative } from 'node:path'
import { pathToFileURL } from 'node:url'

const root = process.cwd()
const from = `${pathToFileURL(root).href}/`
const left = []

for (const entry of readdirSync(join(root, '.output', 'server'), { recursive: true, withFileTypes: true })) {
  if (!entry.isFile() || !entry.name.endsWith('.mjs')) continue
  const file = join(entry.parentPath, entry.name)
  const text = readFileSync(file, 'utf8')
  const moved = text.replaceAll(from, `${relative(dirname(file), root)}/`)
  if (moved !== text) writeFileSync(file, moved)
  if (moved.includes(`${root}/`)) left.push(relative(root, file))
}

if (left.length > 0) {
  console.error(`These still name the place of this checkout: ${left.join(', ')}.`)
  process.exit(1)
}
