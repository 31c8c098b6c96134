export function zoneByDay(now: Date): string | undefined;
