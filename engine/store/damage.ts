import { VesselError } from '../../core/errors'

/** Anything else says that content could not be looked at. */
const OF_CONTENT = new Set(['content_damaged', 'content_missing', 'store_file_short'])

/** Whether content itself is not what was written. A disk that can't read a sector says so with an error of its own. */
export const isOfContent = (error: unknown) =>
  error instanceof VesselError ? OF_CONTENT.has(error.code) : (error as NodeJS.ErrnoException).code === 'EIO'
