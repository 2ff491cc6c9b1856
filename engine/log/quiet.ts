import { laterPosition, positionOf } from '../../core/chain/position'
import type { Look } from '../sources/postgres/log/digest'

/** A structure that was read and is in no segment of the store yet. */
interface Unstored {
  mark: string
  from: string
}

/**
 * Up to where nothing was changed at a source that does not tell of changes, by looking at its catalogs again and
 * again. What a commit has written before a look may become visible later, so only a look that was begun after another
 * one had ended makes certain what that one saw, and not while a transaction that was at work then may still be one that
 * is committed and not visible.
 */
export class Quiet {
  /** Up to here the structure is as it was last read; when that was, once it was looked twice. */
  private reached: string
  private at: Date | null = null
  private lastLook: Look | null = null
  private unstored: Unstored[] = []

  /**
   * @param from nothing was changed up to here since the structure that is known
   * @param digest how the catalogs were when they were last read or looked at; empty before that
   */
  constructor(
    from: string,
    private digest: string,
  ) {
    this.reached = from
  }

  get until(): string {
    return this.reached
  }

  /** A look begins. @returns what its answer is to be told to, and which says whether anything was changed */
  begin(): (look: Look & { digest: string }, isReading: boolean) => boolean {
    const before = this.lastLook
    return ({ digest, ...look }, isReading) => {
      const changed = this.digest !== '' && this.digest !== digest
      this.digest = digest
      // While a structure is read, and beside a reading that was done meanwhile, it says nothing of what lies before it.
      if (!changed && !isReading && this.lastLook === before) this.unchanged(look)
      return changed
    }
  }

  private unchanged(look: Look): void {
    if (look.unseen.some((xid) => this.lastLook?.running.includes(xid))) return
    if (this.lastLook !== null && laterPosition(this.reached, this.lastLook.position) === this.lastLook.position) {
      this.reached = this.lastLook.position
      this.at = this.lastLook.at
    }
    this.lastLook = look
  }

  /** The structure was read, and how the catalogs were just before that. */
  read({ digest, ...look }: Look & { digest: string }): void {
    this.digest = digest
    this.lastLook = look
  }

  /** What was read is on its way into the store. */
  unstore(reading: Unstored): void {
    this.unstored.push(reading)
  }

  isUpTo(position: string): boolean {
    return positionOf(this.reached)! >= positionOf(position)!
  }

  /**
   * Up to where nothing was changed since the last structure that is in the store, and when that was; without a time
   * where that is before something that was read and is not stored yet.
   *
   * @param mark of a reading that is being stored
   */
  ofStore(mark: string | null = null): { position: string; at: Date | null } {
    const at = this.unstored.findIndex((reading) => reading.mark === mark)
    this.unstored = this.unstored.slice(at + 1)
    const [first] = this.unstored
    return first ? { position: first.from, at: null } : { position: this.reached, at: this.at }
  }
}

/**
 * Up to where nothing was changed since the last structure that is in the store, for a follower that begins again.
 *
 * @param from the structure was as it is in the store, or it was changed somewhere behind this
 * @param looked up to where it was looked since
 */
export const quietSince = (from: string, looked: (string | null | undefined)[]): string =>
  looked.reduce<string>((a, b) => (b ? laterPosition(a, b) : a), from)
