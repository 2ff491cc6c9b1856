// Where records lie in a store.

export const segmentPath = (id: string) => `segments/${id}.segment`
export const pointPath = (id: string) => `points/${id}.point`
