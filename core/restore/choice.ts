import type { Wish } from './wish'

/** What a person chose on a page, where it is too long for an address. */
export type Choice =
  /** On the workbench. */
  | { of: 'restore'; wish: Wish }
  /** Files and folders of a volume. */
  | { of: 'files'; files: string[] }

/** Which point of its vessel a saved restore begins with. */
export type Begins =
  /** The newest that is complete and undamaged. */
  | { which: 'newest good' }
  /** The newest, whatever is wrong with it. */
  | { which: 'newest' }
  | { which: 'named'; point: string }
