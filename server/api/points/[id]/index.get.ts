import { pointContents } from '../../../../engine/compare/contents'

export default route((engine, event) => pointContents(engine, idOf(event)))
