import { getRequestURL, setHeader } from 'h3'
import { useRuntimeConfig } from 'nitropack/runtime'
import { VesselError } from '../../core/errors'

/** What no route answers: 405 with the verbs that it has, where there is one by this name, and 404 elsewhere. */
export default route(async (_, event) => {
  const parts = getRequestURL(event).pathname.split('/').filter(Boolean)
  const fits = (path: string) => {
    const expected = path.split('/').filter(Boolean)
    return expected.length === parts.length && expected.every((part, i) => part.startsWith('[') || part === parts[i])
  }
  const routes = useRuntimeConfig()
    .apiRoutes.split('\n')
    .map((route) => route.split(' ') as [verb: string, path: string])
  const verbs = routes.filter(([, path]) => fits(path)).map(([verb]) => verb)
  const touched = 'Nothing was changed.'
  if (verbs.length === 0)
    throw new VesselError('route_missing', {
      what: 'There is no such address.',
      touched,
      next: 'Look at how the address is written.',
      status: 404,
    })
  setHeader(event, 'allow', verbs.join(', '))
  throw new VesselError('method_not_allowed', {
    what: `This address takes ${verbs.join(' and ')}, not ${event.method}.`,
    touched,
    next: 'Send the request with one of these verbs.',
    status: 405,
  })
})
