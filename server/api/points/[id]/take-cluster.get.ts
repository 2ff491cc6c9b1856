import { Readable } from 'node:stream'
import * as v from 'valibot'
import { namesOf } from '../../../../core/things/thing'
import { keptChoice } from '../../../../engine/catalog/choices'
import { namespaceYaml, volumeTar } from '../../../../engine/look/cluster'
import { noRows, openPoint } from '../../../../engine/points/open'

const Query = v.object({ path: v.string(), folder: v.optional(v.string(), ''), files: v.optional(v.string(), '') })

/** A namespace's manifests as a YAML bundle, or a volume, a folder, or the files of a choice of it as a tar archive. */
export default route(async (engine, event) => {
  const { path, folder, files } = queryOf(event, Query)
  const point = await openPoint(engine, pointOf(event), noRows)
  const names = namesOf(path)
  const within = files ? (await keptChoice(engine, files, 'files')).files : folder ? [folder] : []
  if (names.length > 2) return sendFile(event, `${names.at(-1)}.tar`, 'application/x-tar', await volumeTar(point, path, within))
  return sendFile(event, `${names[1]}.yaml`, 'application/yaml', Readable.from([await namespaceYaml(point, path)]))
})
