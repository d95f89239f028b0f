/** Sizes in decimal units with three significant figures, as the client and the log write them. */
export function size(bytes: number | null | undefined): string {
  if (bytes === null || bytes === undefined) return '–';
  const units = ['B', 'kB', 'MB', 'GB', 'TB', 'PB'];
  let value = bytes;
  let unit = 0;
  while (Math.abs(value) >= 999.5 && unit < units.length - 1) {
    value /= 1000;
    unit++;
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2;
  return `${Number(value.toFixed(digits))} ${units[unit]}`;
}

export function ago(at: string | null | undefined, now: number): string {
  if (!at) return 'never';
  const seconds = (now - Date.parse(at)) / 1000;
  const far = Math.abs(seconds);
  if (far < 60) return 'just now';
  const text =
    far < 3600
      ? `${Math.floor(far / 60)} min`
      : far < 2 * 86400
        ? `${Math.floor(far / 3600)} h`
        : `${Math.floor(far / 86400)} days`;
  return seconds >= 0 ? `${text} ago` : `in ${text}`;
}

export function took(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return '–';
  if (seconds < 60) return `${seconds.toFixed(1)} s`;
  const two = (n: number) => String(Math.floor(n)).padStart(2, '0');
  return seconds < 3600
    ? `${Math.floor(seconds / 60)}:${two(seconds % 60)} min`
    : `${Math.floor(seconds / 3600)}:${two((seconds % 3600) / 60)} h`;
}

export const count = (n: number, one: string, many = `${one}s`) => `${n.toLocaleString('en')} ${n === 1 ? one : many}`;

/** Date and time in a zone, to the second, with the zone's name, and the same in UTC. */
export function exact(at: string, zone: string): string {
  const local = new Date(at).toLocaleString('en-GB', { timeZone: zone, dateStyle: 'medium', timeStyle: 'medium' });
  return `${local} ${zone} · ${at.slice(0, 19).replace('T', ' ')} UTC`;
}

/** Date and time in a zone to the minute: "22 Nov 23:00". */
export function short(at: string, zone: string): string {
  return new Date(at)
    .toLocaleString('en-GB', { timeZone: zone, day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' })
    .replace(',', '');
}

/** Words as the begin of a sentence or a title. */
export const sentence = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);

/** The instant at which a date (2027-03-28) begins in a zone. */
export function midnight(date: string, zone: string): string {
  const wall = Date.parse(`${date}T00:00:00Z`);
  const offsetAt = (at: number) => Date.parse(`${new Date(at).toLocaleString('sv', { timeZone: zone })}Z`) - at;
  let at = wall - offsetAt(wall);
  // The offset that holds then, not the one of an hour before or after a clock change.
  at = wall - offsetAt(at);
  return new Date(at).toISOString();
}
