/** Figures as people read them. */

/** An average precision such as 0.953, or a dash where there is none. */
export function precision(value: number | null | undefined): string {
  return value === null || value === undefined ? "–" : value.toFixed(3);
}

/** A range of average precisions such as 0.832 to 0.911; nothing where there is none. */
export function between(range: readonly number[] | null | undefined): string {
  return range ? `${precision(range[0])} to ${precision(range[1])}` : "";
}

/** A change with its sign, a true minus among them. */
function signed(change: number): string {
  return `${change < 0 ? "−" : "+"}${Math.abs(change).toFixed(3)}`;
}

/** How a figure changes from one to another. */
export function gap(first: number | null | undefined, second: number | null | undefined): string {
  return typeof first !== "number" || typeof second !== "number" ? "–" : signed(second - first);
}

/** The range in which a change lies; nothing where it is unknown. */
export function changeRange(low: number | null | undefined, high: number | null | undefined): string {
  return typeof low !== "number" || typeof high !== "number" ? "" : `${signed(low)} to ${signed(high)}`;
}

/** A minimum score or a limit, whole: two digits, or as many as it has. */
export function threshold(value: number): string {
  const said = String(Number(value.toFixed(6)));
  return (said.split(".")[1] ?? "").length > 2 ? said : value.toFixed(2);
}

/** A duration such as 45 s, 3 min 20 s or 2 h 5 min. */
export function duration(seconds: number): string {
  const whole = Math.max(0, Math.round(seconds));
  if (whole < 90) return `${whole} s`;
  if (whole < 3600) return `${Math.floor(whole / 60)} min ${whole % 60} s`;
  const minutes = Math.round(whole / 60);
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

/** A number of things with its thousands told apart. */
export function whole(value: number): string {
  return value.toLocaleString("en");
}

export function count(value: number, one: string, many = `${one}s`): string {
  return `${whole(value)} ${noun(value, one, many)}`;
}

/** The word that goes with a number shown apart from it. */
export function noun(value: number, one: string, many = `${one}s`): string {
  return value === 1 ? one : many;
}

export function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}

export function day(iso: string): string {
  return new Date(iso).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });
}
