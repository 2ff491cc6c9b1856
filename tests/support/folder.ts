import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { onTestFinished } from 'vitest'

/** A folder for the test that runs, which goes with it. */
export function ownFolder(name: string): string {
  const folder = mkdtempSync(join(tmpdir(), `vessel-${name}-`))
  onTestFinished(() => rmSync(folder, { recursive: true, force: true }))
  return folder
}
