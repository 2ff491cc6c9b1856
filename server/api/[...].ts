import { createError, defineEventHandler, getRequestURL, setHeader } from 'h3'
import { useRuntimeConfig } from 'nitropack/runtime'

/** What no route answers: 405 with the verbs that it has, where there is one by this name, and 404 elsewhere. */
export default defineEventHandler((event) => {
  const parts = getRequestURL(event).pathname.split('/').filter(Boolean)
  const fits = (path: string) => {
    const own = path.split('/').filter(Boolean)
    return own.length === parts.length && own.every((part, i) => part.startsWith('[') || part === parts[i])
  }
  const routes = useRuntimeConfig()
    .apiRoutes.split('\n')
    .map((route) => route.split(' ') as [verb: string, path: string])
  const verbs = routes.filter(([, path]) => fits(path)).map(([verb]) => verb)
  const isKnown = verbs.length > 0
  if (isKnown) setHeader(event, 'allow', verbs.join(', '))
  const code = isKnown ? 'method_not_allowed' : 'route_missing'
  const what = isKnown ? `This address takes ${verbs.join(' and ')}, not ${event.method}.` : 'There is no such address.'
  const next = isKnown ? 'Send the request with one of these verbs.' : 'Look at how the address is written.'
  const data = { code, what, touched: 'Nothing was changed.', next }
  throw createError({ statusCode: isKnown ? 405 : 404, statusMessage: code, message: what, data })
})
