import { Cron } from 'croner'
import { change, ownedBy, refTo, type Parts } from './parts'
import type { KubeObject } from './resources'

const JOBS = { group: 'batch', plural: 'jobs' }

export const cronOf = (schedule: string, timezone?: string): Cron => new Cron(schedule, { timezone: timezone ?? 'UTC', paused: true })

/** The latest time after `since`, and not after `now`, at which something was to start; null when there is none. */
export function dueAt(cron: Cron, since: Date, now: Date): Date | null {
  // It looks for what is earlier, by whole seconds.
  const [latest] = cron.previousRuns(1, new Date(now.getTime() + 1000))
  return latest && latest > since ? latest : null
}

const isOver = ({ status }: KubeObject) =>
  ((status?.conditions ?? []) as { type: string }[]).some(({ type }) => type === 'Complete' || type === 'Failed')
const hasFailed = ({ status }: KubeObject) => ((status?.conditions ?? []) as { type: string }[]).some(({ type }) => type === 'Failed')

/** Starts the jobs of cron jobs when their time comes, and keeps as many that are over as they ask for. */
export class CronJobs {
  constructor(
    private readonly parts: Parts,
    private readonly make: (kind: string, namespace: string | undefined, body: Record<string, unknown>) => void,
  ) {}

  look(cronJob: KubeObject, now = new Date()): void {
    const { namespace, name, creationTimestamp } = cronJob.metadata
    const spec = cronJob.spec as {
      schedule: string
      timeZone?: string
      suspend: boolean
      concurrencyPolicy: 'Allow' | 'Forbid' | 'Replace'
      startingDeadlineSeconds?: number
      successfulJobsHistoryLimit: number
      failedJobsHistoryLimit: number
      jobTemplate: { metadata?: Record<string, unknown>; spec: Record<string, unknown> }
    }
    const jobs = ownedBy(this.parts.objects.list(JOBS, namespace), cronJob)
    const active = jobs.filter((job) => !isOver(job))
    const since = new Date(String(cronJob.status?.lastScheduleTime ?? creationTimestamp))
    const due = spec.suspend ? null : dueAt(cronOf(spec.schedule, spec.timeZone), since, now)
    const tooLate = due && spec.startingDeadlineSeconds !== undefined && now.getTime() - due.getTime() > spec.startingDeadlineSeconds * 1000
    const waits = spec.concurrencyPolicy === 'Forbid' && active.length > 0
    const starts = due && !tooLate && !waits
    if (starts) {
      if (spec.concurrencyPolicy === 'Replace') for (const job of active) this.remove(job)
      this.make('Job', namespace, {
        metadata: {
          ...spec.jobTemplate.metadata,
          name: `${name}-${Math.floor(due.getTime() / 60_000)}`,
          ownerReferences: [refTo(cronJob)],
        },
        spec: structuredClone(spec.jobTemplate.spec),
      })
    }
    this.forget(
      jobs.filter((job) => isOver(job) && !hasFailed(job)),
      spec.successfulJobsHistoryLimit,
    )
    this.forget(jobs.filter(hasFailed), spec.failedJobsHistoryLimit)
    change(this.parts, 'CronJob', cronJob, (current) => {
      current.status = {
        ...current.status,
        active: active.map((job) => ({ kind: 'Job', namespace, name: job.metadata.name, uid: job.metadata.uid })),
        ...(starts ? { lastScheduleTime: due.toISOString() } : {}),
      }
    })
  }

  private forget(over: KubeObject[], keep: number): void {
    const byAge = [...over].sort((a, b) => (a.metadata.creationTimestamp! < b.metadata.creationTimestamp! ? 1 : -1))
    for (const job of byAge.slice(keep)) this.remove(job)
  }

  private remove({ metadata }: KubeObject): void {
    this.parts.objects.remove(this.parts.typeOf('Job'), metadata.namespace, metadata.name)
  }
}
