/** Where the server tells of a point, named by its id, or of a moment, by its reference. */
export const pointUrl = (point: string) => `/api/points/${encodeURIComponent(point)}`
