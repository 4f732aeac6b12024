/** Which class digits mean. */

/** A second digit within so many milliseconds belongs to the first. */
export const SOON = 800;

/** Reads digits as the numbers of classes; several digits where so many classes are in use. */
export function classNumbers<T extends { position: number }>(
  classes: () => readonly T[],
  clock: () => number = () => performance.now(),
) {
  let typed = "";
  let until = 0;
  const highest = (): number => classes().at(-1)?.position ?? 0;
  const goesOn = (digit: string): boolean => typed !== "" && clock() < until && Number(typed + digit) <= highest();

  /** The class that is meant with this digit, where there is one. */
  function read(digit: string): T | undefined {
    typed = goesOn(digit) ? typed + digit : digit === "0" ? "" : digit;
    until = clock() + SOON;
    return classes().find((each) => each.position === Number(typed));
  }

  /** Whether another digit can follow the one just typed, beginning with a 0. */
  function begun(): boolean {
    return goesOn("0");
  }

  return { read, begun };
}
