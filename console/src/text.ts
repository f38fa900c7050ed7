/** How long ago a time was, in the greatest unit that fits. */
export function ago(time: string, now = Date.now()): string {
  const seconds = Math.round((now - Date.parse(time)) / 1000);
  if (seconds < 10) {
    return "just now";
  }
  if (seconds < 120) {
    return `${seconds} s ago`;
  }
  if (seconds < 7200) {
    return `${Math.floor(seconds / 60)} min ago`;
  }
  if (seconds < 172800) {
    return `${Math.floor(seconds / 3600)} h ago`;
  }
  return `${Math.floor(seconds / 86400)} days ago`;
}

/** How long until a time, in the greatest unit that fits. */
export function until(time: string, now = Date.now()): string {
  const seconds = Math.round((Date.parse(time) - now) / 1000);
  if (seconds <= 0) {
    return "now";
  }
  if (seconds < 120) {
    return `in ${seconds} s`;
  }
  if (seconds < 7200) {
    return `in ${Math.round(seconds / 60)} min`;
  }
  return seconds < 172800
    ? `in ${Math.floor(seconds / 3600)} h`
    : `in ${Math.floor(seconds / 86400)} days`;
}

/** How far a time is, in whichever direction. */
export function distance(time: string): string {
  return Date.parse(time) > Date.now() ? until(time) : ago(time);
}

/** A word as a shell takes it: as it is, or in single quotes. A leading ~/ stays the home folder. */
export function shellWord(word: string): string {
  if (/^(~\/)?[A-Za-z0-9@%+=:,./_[\]-]+$/.test(word)) {
    return word;
  }
  const home = word.startsWith("~/") ? "~/" : "";
  return home + "'" + word.slice(home.length).replaceAll("'", "'\\''") + "'";
}

/** A number of bytes. */
export function bytes(n: number): string {
  if (n < 10_000) return `${n} B`;
  if (n < 10_000_000) return `${Math.round(n / 1000)} kB`;
  return `${Math.round(n / 1_000_000)} MB`;
}
