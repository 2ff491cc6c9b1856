// Runs every check and every test, and closes with the count of both.
import { spawn, spawnSync } from 'node:child_process'
import { mkdtempSync, readdirSync, readFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

const CHECKS = [
  ['lint', ['npm', 'run', '--silent', 'lint']],
  ['formatting', ['npm', 'run', '--silent', 'format']],
  ['types', ['npm', 'run', '--silent', 'typecheck']],
]
/** Projects of vitest; those of one line go at once, each against a server of its own. */
const STAGES = [['unit'], ['integration', 'log'], ['e2e']]
/** What is tested once more against each other major version of PostgreSQL that this machine has. */
const OF_VERSIONS = ['breadth.test', 'breadth-elsewhere', 'in-place', 'order-of-making', 'log.test', 'log-structure']
const majors = readdirSync('/usr/lib/postgresql').map(Number)
const MAJOR = majors.includes(15) ? 15 : Math.max(...majors)
let [passed, failed] = [0, 0]

for (const [name, [program, ...args]] of CHECKS) {
  const { status } = spawnSync(program, args, { stdio: ['ignore', 'inherit', 'inherit'] })
  console.log(`${status === 0 ? 'passed' : 'FAILED'}: ${name}`)
  if (status === 0) passed++
  else failed++
}

const folder = mkdtempSync(join(tmpdir(), 'vessel-report-'))

/** Runs vitest on what is built, and counts what it reports. What it says beside another comes when it ends, so that both can be read. */
async function vitest(name, args, { beside = false, major = MAJOR } = {}) {
  const report = join(folder, `${name}.json`)
  const all = ['vitest', 'run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...args]
  const child = spawn('npx', all, {
    env: { ...process.env, VESSEL_BUILT: '1', VESSEL_POSTGRES_MAJOR: String(major) },
    stdio: ['ignore', beside ? 'pipe' : 'inherit', beside ? 'pipe' : 'inherit'],
  })
  const said = []
  for (const stream of [child.stdout, child.stderr]) stream?.on('data', (part) => said.push(part))
  const status = await new Promise((resolve) => child.on('close', resolve))
  process.stdout.write(Buffer.concat(said))
  try {
    const result = JSON.parse(readFileSync(report, 'utf8'))
    passed += result.numPassedTests
    failed += result.numFailedTests
    // A suite that could not even begin has no failed test in it.
    if (status !== 0 && result.numFailedTests === 0) failed++
  } catch {
    console.error(`The tests left no report: ${name}.`)
    failed++
  }
}

const asked = process.argv.slice(2)
if (asked.length > 0) await vitest('asked', asked)
else for (const stage of STAGES) await Promise.all(stage.map((project, i) => vitest(project, ['--project', project], { beside: i > 0 })))
for (const major of asked.length > 0 ? [] : majors.filter((one) => one >= 14 && one !== MAJOR)) {
  console.log(`Against PostgreSQL ${major}`)
  await vitest(`postgres-${major}`, ['--project', 'integration', '--project', 'log', ...OF_VERSIONS], { major })
}
console.log(`${passed} passed, ${failed} failed`)
process.exit(failed === 0 ? 0 : 1)
