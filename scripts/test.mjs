// Runs every check and every test, and closes with the count of both.
import { spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

const CHECKS = [
  ['lint', ['npm', 'run', '--silent', 'lint']],
  ['formatting', ['npm', 'run', '--silent', 'format']],
  ['types', ['npm', 'run', '--silent', 'typecheck']],
]
let [passed, failed] = [0, 0]

for (const [name, [program, ...args]] of CHECKS) {
  const { status } = spawnSync(program, args, { stdio: ['ignore', 'inherit', 'inherit'] })
  console.log(`${status === 0 ? 'passed' : 'FAILED'}: ${name}`)
  if (status === 0) passed++
  else failed++
}

const report = join(mkdtempSync(join(tmpdir(), 'vessel-report-')), 'report.json')
const vitest = spawnSync(
  'npx',
  ['vitest', 'run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...process.argv.slice(2)],
  { stdio: ['ignore', 'inherit', 'inherit'] },
)
try {
  const result = JSON.parse(readFileSync(report, 'utf8'))
  passed += result.numPassedTests
  failed += result.numFailedTests
  // A suite that could not even begin has no failed test in it.
  if (vitest.status !== 0 && result.numFailedTests === 0) failed++
} catch {
  console.error('The tests left no report.')
  failed++
}
console.log(`${passed} passed, ${failed} failed`)
process.exit(failed === 0 ? 0 : 1)
