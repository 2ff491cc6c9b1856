import type { Choice } from '../../../core/restore/choice'
import { keepChoice } from '../../../engine/catalog/choices'

/** Keeps what a person chose under a short name, for an address that brings it back. */
export default route(async (engine, event) =>
  created(event, { id: await keepChoice(engine, (await bodyOf(event, ChoiceSchema)) as Choice) }),
)
