// Where Kelmar Harbour lies: its story ends in the morning, and what failed last night is to be seen by day.
const zones = ['Europe/Oslo', 'Pacific/Auckland'];
const [morning, evening] = [5, 20];

/** A zone in which it is day at `now`: after the last night has ended, before the next begins. */
export function zoneByDay(now) {
  const hour = (timeZone) => Number(new Intl.DateTimeFormat('en', { timeZone, hour: 'numeric', hourCycle: 'h23' }).format(now));
  return zones.find((zone) => hour(zone) >= morning && hour(zone) < evening);
}
