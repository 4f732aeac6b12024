/** Which class digits mean, and which classes were used last. */
import { ref } from "vue";

/** A second digit within so many milliseconds belongs to the first. */
export const SOON = 800;

/** Reads digits as the numbers of classes, of which there are so many; two digits where that many are in use. */
export function classNumbers(clock: () => number = () => performance.now()) {
  let typed = "";
  let until = 0;

  /** The number that is meant with this digit; 0 where it is none. */
  function read(digit: string, highest: number): number {
    const both = Number(typed + digit);
    const goesOn = typed !== "" && clock() < until && both <= highest;
    typed = goesOn ? String(both) : digit === "0" ? "" : digit;
    until = clock() + SOON;
    return Number(typed);
  }

  /** Whether a first digit was just typed, so that a 0 belongs to it. */
  function begun(highest: number): boolean {
    return typed !== "" && clock() < until && Number(`${typed}0`) <= highest;
  }

  return { read, begun };
}

const MOST = 40;

/** Numbers of the classes that were used last, the very last first; of each project. */
const used = ref<Record<number, number[]>>({});

function kept(projectId: number): number[] {
  try {
    const found: unknown = JSON.parse(localStorage.getItem(`avocet.classes.${projectId}`) ?? "[]");
    return Array.isArray(found) ? found.filter(Number.isInteger) : [];
  } catch {
    return [];
  }
}

export function classesUsed(projectId: number): number[] {
  return used.value[projectId] ?? (used.value[projectId] = kept(projectId));
}

export function useClass(projectId: number, classId: number): void {
  const others = classesUsed(projectId).filter((each) => each !== classId);
  used.value[projectId] = [classId, ...others].slice(0, MOST);
  try {
    localStorage.setItem(`avocet.classes.${projectId}`, JSON.stringify(used.value[projectId]));
  } catch {
    // Then they are known until the page is closed.
  }
}

interface Named {
  id: number;
  name: string;
  position: number;
}

/** Classes that fit what was typed, a part of the name or the number: those that begin with it first, then the last used. */
export function classesLike<T extends Named>(classes: readonly T[], typed: string, last: readonly number[]): T[] {
  const wanted = typed.trim().toLocaleLowerCase();
  const rank = (each: T): number => {
    const name = each.name.toLocaleLowerCase();
    if (!wanted || name === wanted || String(each.position) === wanted) return 0;
    if (name.startsWith(wanted)) return 1;
    return name.includes(wanted) ? 2 : Infinity;
  };
  const place = (each: T): number => (last.includes(each.id) ? last.indexOf(each.id) : last.length + each.position);
  return classes.filter((each) => rank(each) < Infinity).sort((a, b) => rank(a) - rank(b) || place(a) - place(b));
}
