import { VesselError } from '../../core/errors'

/** Why something is not deleted now. */
export const refused = (code: string, what: string, next: string): VesselError =>
  new VesselError(code, { what, touched: 'Nothing was deleted.', next, status: 409 })

export const vesselInUse = (kind: string, name = 'its vessel'): VesselError =>
  refused(
    'vessel_in_use',
    `A ${kind} of ${name} waits or goes on, and may need it.`,
    'Wait until that is over, or cancel it, then delete it.',
  )
