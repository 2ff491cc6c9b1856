// Every route of server/api, as its file names it: `GET /api/runs/[id]`.
import { readdirSync } from 'node:fs'

export function apiRoutes(folder) {
  return readdirSync(folder, { recursive: true, encoding: 'utf8' }).flatMap((file) => {
    const [, path, method] = /^(.*?)(?:(?:^|\/)index)?\.(get|post|put|delete)\.ts$/.exec(file) ?? []
    return method ? [`${method.toUpperCase()} /api/${path}`.replace(/\/$/, '')] : []
  })
}
