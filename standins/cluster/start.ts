import { fork, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'
import { join } from 'node:path'

export interface ClusterStart {
  name: string
  folder: string
  /** 0 for any that is free. */
  port?: number
  token?: string
  nodes?: number
  without?: string[]
  /** Tokens of users who have no rights but those that roles give them. */
  users?: Record<string, string>
}

/** The stand-in cluster as a process of its own, for the demo and the tests. It needs `npm run build:engine`. */
export class ClusterProcess {
  private constructor(
    private readonly child: ChildProcess,
    readonly port: number,
    readonly token: string,
    readonly kubeconfig: string,
  ) {}

  static async start({ name, folder, port = 0, token = `administrator of ${name}`, nodes = 1, without = [], users = {} }: ClusterStart) {
    const flags = { name, folder, port, token, nodes, without: without.join(',') }
    const args = [
      ...Object.entries(flags).map(([flag, value]) => `--${flag}=${value}`),
      ...Object.entries(users).map(([key, user]) => `--user=${key}=${user}`),
    ]
    const child = fork('dist/cluster.mjs', args, { stdio: ['ignore', 'ignore', 'inherit', 'ipc'] })
    const [message] = (await Promise.race([
      once(child, 'message'),
      once(child, 'exit').then(([code]) => Promise.reject(new Error(`the cluster ${name} ended with ${String(code)}`))),
    ])) as [{ port: number }]
    return new ClusterProcess(child, message.port, token, join(folder, 'kubeconfig'))
  }

  get url(): string {
    return `https://127.0.0.1:${this.port}`
  }

  /** Lets a token run out. */
  expire(token: string): void {
    this.child.send({ expire: token })
  }

  async stop(signal: NodeJS.Signals = 'SIGTERM'): Promise<void> {
    if (this.child.exitCode !== null || this.child.signalCode !== null) return
    const gone = once(this.child, 'exit')
    this.child.kill(signal)
    await gone
  }
}
