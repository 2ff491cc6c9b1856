// Runs every check and every test, and closes with the count of both.
import { spawn, spawnSync } from 'node:child_process'
import { mkdtempSync, readdirSync, readFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join, relative } from 'node:path'

const CHECKS = [
  ['lint', ['npm', 'run', '--silent', 'lint']],
  ['formatting', ['npm', 'run', '--silent', 'format']],
  ['types', ['npm', 'run', '--silent', 'typecheck']],
]
const SOAK = ['soak', ['node', 'dist/soak.mjs', '0.7', '1']]
/**
 * Projects of vitest, and checks. The lanes of a line go at once, each against a server of its own; what stands in a lane
 * goes one after the other.
 */
const STAGES = [[['unit']], [['integration'], ['log'], ['churn'], [SOAK]], [['path'], ['structure', 'pages']]]
/** What is tested once more against each other major version of PostgreSQL that this machine has. */
const OF_VERSIONS = ['breadth.test', 'breadth-elsewhere', 'in-place', 'order-of-making', 'log.test', 'log-structure']
const majors = readdirSync('/usr/lib/postgresql').map(Number)
const MAJOR = majors.includes(15) ? 15 : Math.max(...majors)
let [passed, failed] = [0, 0]
/** What failed, to be read once more at the end. */
const failures = []

/** Runs a program and gathers what it says, so that several can go at once and be read one after the other. */
async function gathered(program, args, options = {}) {
  const child = spawn(program, args, { ...options, stdio: ['ignore', 'pipe', 'pipe'] })
  const said = []
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (part) => said.push(part))
  const status = await new Promise((resolve) => child.on('close', resolve))
  const text = Buffer.concat(said).toString()
  process.stdout.write(text)
  return { status, text }
}

const check = async ([name, [program, ...args]]) => {
  const { status, text } = await gathered(program, args)
  console.log(`${status === 0 ? 'passed' : 'FAILED'}: ${name}`)
  if (status === 0) passed++
  else {
    failed++
    failures.push([name, ...text.split('\n').filter((line) => line.startsWith('WRONG'))].join('\n    ').slice(0, 3000))
  }
}
await Promise.all(CHECKS.map(check))

const folder = mkdtempSync(join(tmpdir(), 'vessel-report-'))

/** Runs vitest on what is built, and counts what it reports. What it says beside another comes when it ends. */
async function vitest(name, args, { beside = false, major = MAJOR } = {}) {
  const report = join(folder, `${name}.json`)
  const all = ['vitest', 'run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...args]
  const env = { ...process.env, VESSEL_BUILT: '1', VESSEL_POSTGRES_MAJOR: String(major) }
  const status = beside
    ? (await gathered('npx', all, { env })).status
    : spawnSync('npx', all, { env, stdio: ['ignore', 'inherit', 'inherit'] }).status
  try {
    const result = JSON.parse(readFileSync(report, 'utf8'))
    passed += result.numPassedTests
    failed += result.numFailedTests
    for (const { name: file, assertionResults } of result.testResults)
      for (const { status: state, fullName, failureMessages } of assertionResults)
        if (state === 'failed')
          failures.push(
            `${relative('.', file)}: ${fullName}\n    ${String(failureMessages[0]).split('\n', 3).join('\n    ').slice(0, 3000)}`,
          )
    // A suite that could not even begin has no failed test in it.
    if (status !== 0 && result.numFailedTests === 0) failed++
  } catch {
    console.error(`The tests left no report: ${name}.`)
    failed++
  }
}

const asked = process.argv.slice(2)
if (asked.length > 0) await vitest('asked', asked)
else {
  const one = (what, beside) => (Array.isArray(what) ? check(what) : vitest(what, ['--project', what], { beside }))
  for (const stage of STAGES)
    await Promise.all(
      stage.map(async (lane) => {
        for (const what of lane) await one(what, stage.length > 1)
      }),
    )
}
for (const major of asked.length > 0 ? [] : majors.filter((one) => one >= 14 && one !== MAJOR)) {
  console.log(`Against PostgreSQL ${major}`)
  await vitest(`postgres-${major}`, ['--project', 'integration', '--project', 'log', '--project', 'structure', ...OF_VERSIONS], { major })
}
for (const failure of failures) console.log(`FAILED ${failure}`)
console.log(`${passed} passed, ${failed} failed`)
process.exit(failed === 0 ? 0 : 1)
