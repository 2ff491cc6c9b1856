import { spawn, type ChildProcess, type SpawnOptions } from 'node:child_process'

type Environment = Record<string, string>

/**
 * Starts a program of the machine. What it is to know is told by its arguments and its environment, and nothing else:
 * of ours it has the paths of programs only, no keys and no addresses. No shell reads any of it.
 */
export function startProgram<Options extends SpawnOptions>(
  path: string,
  args: string[],
  { environment = {}, ...options }: Options & { environment?: Environment },
): ChildProcess {
  return spawn(path, args, { ...options, shell: false, env: { PATH: process.env.PATH ?? '', LC_ALL: 'C', ...environment } })
}
