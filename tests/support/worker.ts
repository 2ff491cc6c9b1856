import { spawn, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'

/** A worker of its own (bin/worker). With a limit, no file may grow beyond it until the limit is raised. */
export function startWorker(environment: Record<string, string>, limit?: number): ChildProcess {
  // Not being let write on is what a full disk looks like to whoever writes.
  const command = limit
    ? ['sh', '-c', `trap '' XFSZ; exec prlimit --fsize=${limit}:unlimited node dist/worker.mjs`]
    : ['node', 'dist/worker.mjs']
  const child = spawn(command[0]!, command.slice(1), { env: { ...process.env, ...environment }, stdio: ['ignore', 'pipe', 'ignore'] })
  // Whoever nobody listens to must not wait until somebody does.
  child.stdout!.resume()
  return child
}

/** Tells a worker to stop, and comes back when it said that it takes nothing more. */
export async function toldToStop(worker: ChildProcess): Promise<void> {
  let said = ''
  const heard = new Promise<void>((resolve) =>
    worker.stdout!.on('data', (part) => (said += part).includes('takes no more runs') && resolve()),
  )
  worker.kill('SIGTERM')
  await heard
}

/** Kills a worker, if it still is there, and waits until it is gone. */
export async function killWorker(worker: ChildProcess): Promise<void> {
  if (worker.exitCode !== null || worker.signalCode !== null) return
  const gone = once(worker, 'exit')
  worker.kill('SIGKILL')
  await gone
}
