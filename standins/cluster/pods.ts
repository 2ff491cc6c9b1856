import { spawn, type ChildProcess } from 'node:child_process'
import { createWriteStream, mkdirSync, rmSync, symlinkSync, writeFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { commandIn, imageOf, type Image } from './images'
import { change, type Parts } from './parts'
import type { KubeObject } from './resources'
import { usesClaim, type Volumes } from './volumes'

const PODS = { group: '', plural: 'pods' }
const NODES = { group: '', plural: 'nodes' }
/** A container does not outlive the stand-in, even one that is killed. */
const ENDS_WITH_US = ['--pdeathsig', 'KILL', '--']
/** The longest that a container is waited for before it is killed, whatever the pod allows. */
const MOST_GRACE_MS = 5000

interface Container {
  name: string
  image: string
  command?: string[]
  args?: string[]
  env?: { name: string; value?: string; valueFrom?: Record<string, { name: string; key: string; fieldPath: string }> }[]
  envFrom?: { configMapRef?: { name: string }; secretRef?: { name: string } }[]
  volumeMounts?: { name: string; mountPath: string; subPath?: string; readOnly?: boolean }[]
  readinessProbe?: { exec?: { command: string[] } }
}

/** A container that runs, or has run. */
interface Running {
  spec: Container
  image: Image
  root: string
  env: Record<string, string>
  /** The largest file that it can write, in bytes. */
  largestFile: number | null
  process: ChildProcess | null
  startedAt: string
  restarts: number
  exit: { code: number; at: string } | null
  ready: boolean
}

interface RunningPod {
  containers: Map<string, Running>
  ending: boolean
}

/** What runs the pods: their containers are real processes, their volumes real folders. */
export class Pods {
  private readonly running = new Map<string, RunningPod>()
  private readonly frozen = new Map<number, number>()

  constructor(
    private readonly parts: Parts,
    private readonly volumes: () => Volumes,
  ) {}

  look(): void {
    for (const pod of this.parts.objects.list(PODS)) {
      const { uid, deletionTimestamp } = pod.metadata
      if (deletionTimestamp) void this.end(pod)
      else if (!pod.spec!.nodeName) this.place(pod)
      else if (!this.running.has(uid) && ['Pending', 'Running'].includes(String(pod.status?.phase))) this.start(pod)
    }
  }

  /** After a start nothing runs, whatever was said of it before. */
  restarted(): void {
    for (const pod of this.parts.objects.list(PODS)) {
      if (pod.status?.phase === 'Running') change(this.parts, 'Pod', pod, (current) => (current.status = { phase: 'Pending' }))
    }
  }

  private place(pod: KubeObject): void {
    const nodes = this.parts.objects.list(NODES)
    const used = (name: string) => this.parts.objects.list(PODS).filter(({ spec }) => spec?.nodeName === name).length
    const [node] = nodes.sort((a, b) => used(a.metadata.name) - used(b.metadata.name))
    if (node) change(this.parts, 'Pod', pod, ({ spec }) => (spec!.nodeName = node.metadata.name), 'spec')
  }

  private rootOf(pod: KubeObject): string {
    return join(this.parts.folder, 'pods', pod.metadata.uid)
  }

  private start(pod: KubeObject): void {
    const waiting = this.prepare(pod)
    if (typeof waiting === 'string') {
      const reason = waiting.startsWith('image') ? 'ImagePullBackOff' : 'ContainerCreating'
      change(this.parts, 'Pod', pod, (current) => {
        current.status = {
          ...current.status,
          containerStatuses: (current.spec!.containers as Container[]).map(({ name, image }) => ({
            name,
            image,
            ready: false,
            restartCount: 0,
            state: { waiting: { reason, message: waiting } },
          })),
        }
      })
      return
    }
    const running: RunningPod = { containers: new Map(), ending: false }
    this.running.set(pod.metadata.uid, running)
    for (const container of pod.spec!.containers as Container[]) {
      const root = join(this.rootOf(pod), container.name)
      const image = imageOf(container.image)!
      const started: Running = {
        spec: container,
        image,
        root,
        env: this.envOf(pod, container, root),
        largestFile: this.volumes().largestFile(pod),
        process: null,
        startedAt: '',
        restarts: 0,
        exit: null,
        ready: false,
      }
      running.containers.set(container.name, started)
      this.mount(pod, container, root, waiting)
      this.run(pod, running, started)
    }
    this.report(pod, running)
  }

  /** Where the pod's volumes lie; or why it can't be started yet. */
  private prepare(pod: KubeObject): Map<string, string> | string {
    const { objects } = this.parts
    const { namespace } = pod.metadata
    const folders = new Map<string, string>()
    for (const container of pod.spec!.containers as Container[])
      if (!imageOf(container.image)) return `image ${container.image} can't be pulled: there is none of that name`
    for (const volume of (pod.spec!.volumes ?? []) as Record<string, any>[]) {
      const { name, persistentVolumeClaim: claim, configMap, secret } = volume
      const root = join(this.rootOf(pod), 'volumes', name)
      if (claim) {
        const found = objects.find({ group: '', plural: 'persistentvolumeclaims' }, namespace, claim.claimName)
        if (!found) return `persistentvolumeclaim "${claim.claimName}" not found`
        if (found.status?.phase !== 'Bound') return `persistentvolumeclaim "${claim.claimName}" is not bound`
        folders.set(name, this.volumes().folderOf(found.spec!.volumeName))
        continue
      }
      mkdirSync(root, { recursive: true })
      folders.set(name, root)
      const ref = configMap ? ['configmaps', configMap.name] : secret ? ['secrets', secret.secretName] : null
      if (!ref) continue
      const found = objects.find({ group: '', plural: ref[0]! }, namespace, ref[1])
      if (!found) return `${ref[0]!.slice(0, -1)} "${ref[1]}" not found`
      for (const [key, value] of Object.entries(found.data ?? {}))
        writeFileSync(join(root, key), secret ? Buffer.from(value, 'base64') : value)
    }
    return folders
  }

  private mount(pod: KubeObject, { volumeMounts }: Container, root: string, folders: Map<string, string>): void {
    rmSync(root, { recursive: true, force: true })
    mkdirSync(root, { recursive: true })
    for (const { name, mountPath, subPath } of volumeMounts ?? []) {
      const at = join(root, mountPath)
      mkdirSync(dirname(at), { recursive: true })
      const folder = join(folders.get(name) ?? join(this.rootOf(pod), 'volumes', name), subPath ?? '')
      mkdirSync(folder, { recursive: true })
      symlinkSync(folder, at)
    }
  }

  private envOf(pod: KubeObject, { env, envFrom }: Container, root: string): Record<string, string> {
    const { objects } = this.parts
    const { namespace, name } = pod.metadata
    const data = (plural: string, of: string): Record<string, string> => {
      const found = objects.find({ group: '', plural }, namespace, of)?.data ?? {}
      if (plural === 'configmaps') return found
      return Object.fromEntries(Object.entries(found).map(([key, value]) => [key, Buffer.from(value, 'base64').toString()]))
    }
    const values: Record<string, string> = { PATH: process.env.PATH ?? '', HOME: root, HOSTNAME: name, CONTAINER_ROOT: root }
    for (const { configMapRef, secretRef } of envFrom ?? []) {
      if (configMapRef) Object.assign(values, data('configmaps', configMapRef.name))
      if (secretRef) Object.assign(values, data('secrets', secretRef.name))
    }
    for (const { name: key, value, valueFrom } of env ?? []) {
      const { configMapKeyRef: map, secretKeyRef: secret, fieldRef } = valueFrom ?? {}
      if (map) values[key] = data('configmaps', map.name)[map.key] ?? ''
      else if (secret) values[key] = data('secrets', secret.name)[secret.key] ?? ''
      else if (fieldRef) values[key] = fieldRef.fieldPath === 'metadata.namespace' ? namespace! : name
      else values[key] = value ?? ''
    }
    return values
  }

  /** Paths below a mount as they are on this machine: there is no file system of the container's own. */
  private real({ spec, root }: Running, command: string[]): string[] {
    const mounts = (spec.volumeMounts ?? []).map(({ mountPath }) => mountPath.replace(/\/$/, ''))
    return command.map((word) =>
      mounts.reduce((text, mount) => {
        const escaped = mount.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')
        return text.replace(new RegExp(`(^|[\\s"'=:(])${escaped}(?=$|[/\\s"';)])`, 'g'), `$1${join(root, mount)}`)
      }, word),
    )
  }

  private run(pod: KubeObject, running: RunningPod, container: Running): void {
    const { spec, image, root } = container
    const command = spec.command ? commandIn(image, [...spec.command, ...(spec.args ?? [])]) : [...image.entry, ...(spec.args ?? [])]
    const log = createWriteStream(this.logOf(pod, spec.name), { flags: 'a' })
    const [program, ...args] = this.real(container, command ?? ['false'])
    // A process group of its own, so that whatever it starts ends with it.
    const child = spawn('setpriv', [...ENDS_WITH_US, program!, ...args], {
      cwd: root,
      env: container.env,
      detached: true,
      stdio: ['ignore', 'pipe', 'pipe'],
    })
    container.process = child
    container.startedAt = new Date().toISOString()
    container.exit = null
    container.ready = !spec.readinessProbe?.exec
    child.stdout.pipe(log, { end: false })
    child.stderr.pipe(log, { end: false })
    child.on('error', () => undefined)
    child.on('close', (code) => {
      log.end()
      container.process = null
      container.ready = false
      container.exit = { code: code ?? 137, at: new Date().toISOString() }
      if (running.ending) return
      const policy = pod.spec!.restartPolicy as string
      if (policy === 'Always' || (policy === 'OnFailure' && code !== 0)) {
        container.restarts++
        setTimeout(
          () => !running.ending && (this.run(pod, running, container), this.report(pod, running)),
          Math.min(10_000, 500 * 2 ** container.restarts),
        )
      }
      this.report(pod, running)
    })
    if (!container.ready) void this.probe(pod, running, container, child)
  }

  private async probe(pod: KubeObject, running: RunningPod, container: Running, child: ChildProcess): Promise<void> {
    while (container.process === child && !container.ready) {
      const probe = this.execute(container, container.spec.readinessProbe!.exec!.command)
      const code = await new Promise((resolve) => (probe ? probe.on('close', resolve).on('error', () => resolve(1)) : resolve(1)))
      if (code === 0 && container.process === child) {
        container.ready = true
        this.report(pod, running)
      } else await new Promise((resolve) => setTimeout(resolve, 200))
    }
  }

  private execute(container: Running, command: string[]): ChildProcess | undefined {
    const found = commandIn(container.image, command)
    if (!found) return undefined
    const [program, ...args] = this.real(container, found)
    // What is written beyond it fails, as on a volume that is full.
    const limits = container.largestFile === null ? [] : ['prlimit', `--fsize=${container.largestFile}`, 'env', '--ignore-signal=XFSZ']
    return spawn('setpriv', [...ENDS_WITH_US, ...limits, program!, ...args], { cwd: container.root, env: container.env, detached: true })
  }

  /** Runs a command in a container that runs. Null when the pod or the container does not run; undefined when there is no such program. */
  exec(pod: KubeObject, name: string | undefined, command: string[]): ChildProcess | null | undefined {
    const running = this.running.get(pod.metadata.uid)
    const container = name ? running?.containers.get(name) : running?.containers.values().next().value
    if (!running || running.ending || !container?.process) return null
    const child = this.execute(container, command)
    // A pod that dies takes with it what was run in it.
    const kill = () => child?.pid && this.signal(child.pid, 'SIGKILL')
    container.process.once('close', kill)
    child?.once('close', () => container.process?.off('close', kill))
    return child
  }

  logOf(pod: KubeObject, container: string): string {
    mkdirSync(this.rootOf(pod), { recursive: true })
    return join(this.rootOf(pod), `${container}.log`)
  }

  private report(pod: KubeObject, running: RunningPod): void {
    const all = [...running.containers.values()]
    const ended = all.every(({ exit, process: child }) => exit && !child)
    const policy = pod.spec!.restartPolicy as string
    const failed = all.some(({ exit }) => exit && exit.code !== 0)
    const over = ended && (policy === 'Never' || (policy === 'OnFailure' && !failed))
    const phase = over ? (failed ? 'Failed' : 'Succeeded') : 'Running'
    const ready = all.every((container) => container.ready)
    change(this.parts, 'Pod', pod, (current) => {
      current.status = {
        phase,
        podIP: '10.1.0.1',
        hostIP: '127.0.0.1',
        startTime: all[0]!.startedAt,
        conditions: [
          { type: 'Ready', status: ready ? 'True' : 'False' },
          { type: 'ContainersReady', status: ready ? 'True' : 'False' },
        ],
        containerStatuses: all.map(({ spec, ready: isReady, restarts, startedAt, exit }) => ({
          name: spec.name,
          image: spec.image,
          ready: isReady,
          restartCount: restarts,
          state: exit ? { terminated: { exitCode: exit.code, finishedAt: exit.at } } : { running: { startedAt } },
        })),
      }
    })
  }

  private async end(pod: KubeObject): Promise<void> {
    const { uid, namespace, name } = pod.metadata
    const running = this.running.get(uid)
    if (running?.ending) return
    if (running) {
      running.ending = true
      await this.stop(running, Math.min(MOST_GRACE_MS, Number(pod.metadata.deletionGracePeriodSeconds ?? 30) * 1000))
      this.running.delete(uid)
    }
    rmSync(this.rootOf(pod), { recursive: true, force: true })
    const newest = this.parts.objects.find(PODS, namespace, name)
    if (newest?.metadata.uid === uid && !newest.metadata.finalizers?.length) this.parts.objects.drop(this.parts.typeOf('Pod'), newest)
  }

  private async stop(running: RunningPod, grace: number): Promise<void> {
    await Promise.all(
      [...running.containers.values()].map(async ({ process: child }) => {
        if (!child?.pid) return
        const closed = new Promise((resolve) => child.once('close', resolve))
        this.signal(child.pid, grace > 0 ? 'SIGTERM' : 'SIGKILL')
        const timer = setTimeout(() => this.signal(child.pid!, 'SIGKILL'), grace)
        await closed
        clearTimeout(timer)
      }),
    )
  }

  private signal(pid: number, signal: NodeJS.Signals): void {
    try {
      process.kill(-pid, signal)
    } catch {
      // It has ended meanwhile.
    }
  }

  /** Stops all processes that may write to a claim's volume; returns what lets them go on. */
  freeze(claim: KubeObject): () => void {
    const pids = this.parts.objects
      .list(PODS, claim.metadata.namespace)
      .filter((pod) => usesClaim(pod, claim.metadata.name))
      .flatMap((pod) =>
        [...(this.running.get(pod.metadata.uid)?.containers.values() ?? [])].flatMap((container) => container.process?.pid ?? []),
      )
    for (const pid of pids) {
      this.frozen.set(pid, (this.frozen.get(pid) ?? 0) + 1)
      this.signal(pid, 'SIGSTOP')
    }
    return () => {
      for (const pid of pids) {
        const left = this.frozen.get(pid)! - 1
        this.frozen.set(pid, left)
        if (left === 0) this.signal(pid, 'SIGCONT')
      }
    }
  }

  async close(): Promise<void> {
    for (const running of this.running.values()) {
      running.ending = true
      await this.stop(running, 1000)
    }
  }
}
