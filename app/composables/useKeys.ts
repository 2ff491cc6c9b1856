export function useKeys(): void {}
