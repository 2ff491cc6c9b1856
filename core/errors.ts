/**
 * The one kind of error that reaches a person. `what` says what happened, `touched` what was and was not
 * changed by it, `next` what to do. `code` is stable and may be relied upon by programs.
 */
export class VesselError extends Error {
  readonly code: string
  readonly touched: string
  readonly next: string
  readonly status: number

  constructor(code: string, parts: { what: string; touched: string; next: string; status?: number; cause?: unknown }) {
    super(parts.what, { cause: parts.cause })
    this.name = 'VesselError'
    this.code = code
    this.touched = parts.touched
    this.next = parts.next
    this.status = parts.status ?? 422
  }

  /** The form in which errors are stored with runs and sent to the interface. */
  toJSON(): ErrorRecord {
    return { code: this.code, what: this.message, touched: this.touched, next: this.next }
  }
}

export interface ErrorRecord {
  code: string
  what: string
  touched: string
  next: string
}

/** Turns anything thrown into a record; what is not ours is recorded as `internal` with its message. */
export function errorRecord(error: unknown, touched = 'What it had touched is not known.'): ErrorRecord {
  if (error instanceof VesselError) return error.toJSON()
  const message = error instanceof Error ? error.message : String(error)
  return {
    code: 'internal',
    what: `Something failed that we did not foresee: ${message}`,
    touched,
    next: 'Look at the log of the server for its trace, and report it.',
  }
}
