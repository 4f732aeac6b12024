/** Which classes were used last, and finding one by what is typed. */
import { remembered } from "@/state/remembered";

const MOST = 40;

/** Of each project. */
const used = remembered<Record<number, number[]>>("classes", {});

/** The classes used last, the very last first. */
export function classesUsed(projectId: number): number[] {
  return used.value[projectId] ?? [];
}

/** A class was just used. */
export function classWasUsed(projectId: number, classId: number): void {
  const others = classesUsed(projectId).filter((each) => each !== classId);
  used.value[projectId] = [classId, ...others].slice(0, MOST);
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
