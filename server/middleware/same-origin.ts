import { createError, defineEventHandler, getRequestHeader } from 'h3'
import { VesselError } from '../../core/errors'

const LOOPBACK = /^(localhost|127\.\d+\.\d+\.\d+|\[::1\])(:\d+)?$/

/**
 * Until there are accounts, whoever reaches this address may do everything. So only pages of our own may ask
 * for changes, and the address must be a loopback one (or named in VESSEL_HOSTS), which a foreign name that
 * points to this machine is not.
 */
export default defineEventHandler((event) => {
  const host = getRequestHeader(event, 'host') ?? ''
  const allowed = (process.env.VESSEL_HOSTS ?? '').split(',').filter(Boolean)
  if (!LOOPBACK.test(host) && !allowed.includes(host)) throw refused('host_refused', `This server does not answer as ${host || 'nobody'}.`)
  const site = getRequestHeader(event, 'sec-fetch-site') ?? 'none'
  if (event.method === 'GET' || event.method === 'HEAD') {
    // Some cost much; a page that is merely opened from elsewhere asks for what it needs by itself.
    const isForeign = event.path.startsWith('/api') && site !== 'none' && site !== 'same-origin'
    if (isForeign) throw refused('origin_refused', 'Another page asked for data.')
    return
  }
  const origin = getRequestHeader(event, 'origin')
  if (origin && URL.canParse(origin) && new URL(origin).host === host) return
  if (!origin && site === 'none') return
  throw refused('origin_refused', 'Another page asked for a change.')
})

function refused(code: string, what: string) {
  const error = new VesselError(code, { what, touched: 'Nothing was changed.', next: 'Use the interface at its own address.', status: 403 })
  return createError({ statusCode: 403, statusMessage: code, message: what, data: error.toJSON() })
}
