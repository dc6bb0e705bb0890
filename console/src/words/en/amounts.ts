/** money is millionths of the currency's unit, for people: to the cent, or finer where it is less than one. */
export function money(micros: number, currency: string): string {
  const digits = Math.abs(micros) < 1_000_000 && micros % 10_000 !== 0 ? 4 : 2;
  return ofMoney(currency, digits).format(micros / 1e6);
}

/** cents is money in a column: two decimals throughout. */
export const cents = (micros: number, currency: string) => ofMoney(currency, 2).format(micros / 1e6);

const made = new Map<string, Intl.NumberFormat>();

/** Made once for each currency: to make one costs as much as to paint a row. */
function ofMoney(currency: string, digits: number): Intl.NumberFormat {
  const key = currency + digits;
  const known = made.get(key) ?? new Intl.NumberFormat(undefined, { style: "currency", currency, minimumFractionDigits: 2, maximumFractionDigits: digits });
  made.set(key, known);
  return known;
}

/** bytes is an amount of memory or disk. */
export function bytes(n: number): string {
  if (n > 0 && n < 2 ** 20) return `${Math.ceil(n / 2 ** 10)} KiB`;
  const gib = n / 2 ** 30;
  return gib >= 1 ? `${Number(gib.toFixed(1))} GiB` : `${Math.round(n / 2 ** 20)} MiB`;
}

export const cores = (milli: number) => `${Number((milli / 1000).toFixed(2))} ${milli === 1000 ? "core" : "cores"}`;

/** hours is a length of time in seconds, to the minute. */
export const hours = (s: number) => `${Math.floor(s / 3600)}:${String(Math.floor((s % 3600) / 60)).padStart(2, "0")} h`;

/** span is a length of time in seconds, in words. */
export function span(s: number): string {
  if (s < 60) return `${Math.round(s)} s`;
  const min = Math.round(s / 60);
  if (min < 60) return `${min} min`;
  const h = Math.floor(min / 60);
  if (h < 48) return min % 60 ? `${h} h ${min % 60} min` : `${h} h`;
  return `${Math.round(h / 24)} days`;
}
