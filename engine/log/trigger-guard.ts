import type pg from 'pg'
import { installTrigger, triggerWritten } from '../sources/postgres/log/install'

/** What tells of changes of the structure at a source: somebody may take it off, or do something to it. */
export class TriggerGuard {
  /** As it was last seen; null before. */
  private written: string | null = null

  /** Puts it on again. @returns whether somebody had taken it off, or had done something to it, since it was looked at last */
  async wasOff(client: pg.Client): Promise<boolean> {
    const { written, isNew } = await installTrigger(client)
    const wasOff = isNew || (this.written !== null && this.written !== written)
    this.written = written
    return wasOff
  }

  /** Whether it is not what it was when it was looked at last; where none is used, never. */
  async isTouched(client: pg.Client): Promise<boolean> {
    return this.written !== null && (await triggerWritten(client)) !== this.written
  }
}
