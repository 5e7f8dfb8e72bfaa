// Numbers as people read them.

export function decimal(value: number | null | undefined, digits = 3): string {
  return value === null || value === undefined || !isFinite(value) ? "–" : value.toFixed(digits);
}

// As many digits as a curve needs: three significant, no exponent where a plain number is short.
export function short(value: number | null | undefined): string {
  if (value === null || value === undefined || !isFinite(value)) return "–";
  const size = Math.abs(value);
  if (size === 0) return "0";
  if (size >= 1e6 || size < 1e-4) return value.toExponential(1).replace("e+", "e");
  if (size >= 100) return value.toFixed(0);
  return value.toPrecision(3);
}

// A place on an axis: epochs and steps are whole.
export function plain(value: number): string {
  return Number.isInteger(value) ? String(value) : short(value);
}

export function count(value: number): string {
  return value.toLocaleString("en");
}

export function plural(value: number, word: string, many = `${word}s`): string {
  return `${count(value)} ${value === 1 ? word : many}`;
}

export function percent(fraction: number | null | undefined): string {
  if (fraction === null || fraction === undefined) return "–";
  if (fraction > 0 && fraction < 0.005) return "<1 %";
  if (fraction < 1 && fraction > 0.995) return ">99 %";
  return `${Math.round(100 * fraction)} %`;
}

export function seconds(value: number | null | undefined): string {
  if (value === null || value === undefined) return "–";
  if (value < 1) return `${value < 0.1 ? Math.round(value * 1000) : Math.round(value * 100) * 10} ms`;
  if (value < 10) return `${value.toFixed(1)} s`;
  if (value < 60) return `${Math.round(value)} s`;
  if (value < 3600) return `${Math.floor(value / 60)} min ${Math.round(value % 60)} s`;
  return `${Math.floor(value / 3600)} h ${Math.round((value % 3600) / 60)} min`;
}

export function interval(low: number | null, high: number | null): string {
  return low === null || high === null ? "" : `${decimal(low)} to ${decimal(high)}`;
}

// The path in an item's id, PATH#HASH.
export function pathOf(item: string): string {
  const hash = item.lastIndexOf("#");
  return hash < 0 ? item : item.slice(0, hash);
}

// One field of a CSV file (RFC 4180). What a spreadsheet would run is guarded by an apostrophe, as in every table of
// Jevrin.
export function csvField(value: string): string {
  const runs = /^'*[=+\-@\t\r]/.test(value) && !(value !== "" && isFinite(Number(value)));
  const text = runs ? "'" + value : value;
  return /[",\r\n]/.test(text) ? `"${text.replace(/"/g, '""')}"` : text;
}
