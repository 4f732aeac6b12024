/** The keys of labelling. */
import { type Key, useKeys } from "@/state/keys";

export interface LabelActions {
  /** A digit of a class's number. */
  digit: (digit: string) => void;
  digitOfBoxes: (digit: string) => void;
  zero: () => void;
  findClass: () => void;
  toggleFlag: (number: number) => void;
  next: () => unknown;
  previous: () => unknown;
  doneAndNext: () => unknown;
  nextUnlabelled: () => unknown;
  leastSure: () => unknown;
  nothingHere: () => unknown;
  selectNext: () => boolean;
  selectPrevious: () => boolean;
  selectAll: () => void;
  remove: () => void;
  escape: () => unknown;
  undo: () => unknown;
  redo: () => unknown;
  nudge: (dx: number, dy: number) => boolean;
  grow: (dx: number, dy: number) => boolean;
  duplicate: () => void;
  copy: () => boolean;
  paste: () => boolean;
  fromPrevious: () => void;
  ghosts: () => unknown;
  putBox: () => void;
  tighten: () => unknown;
  tightenAll: () => unknown;
  stamp: () => unknown;
  pass: () => unknown;
  hideOthers: () => unknown;
  hideAll: () => unknown;
  looks: () => unknown;
}

/** Which way each arrow moves boxes, in pixels. */
export const ARROWS = [
  ["ArrowLeft", -1, 0],
  ["ArrowRight", 1, 0],
  ["ArrowUp", 0, -1],
  ["ArrowDown", 0, 1],
] as const;

/** Not again and again while the key is held down: a picture is done once. */
const once = (run: () => unknown) => (event: KeyboardEvent) => event.repeat || run();

export function useLabelKeys(act: LabelActions): void {
  const digits = ["1", "2", "3", "4", "5", "6", "7", "8", "9"];
  const keys: Key[] = [
    {
      keys: digits,
      label: "Class of new boxes, and of those selected by hand",
      run: (event) => act.digit(event.key),
    },
    {
      keys: digits.map((digit) => `Shift+${digit}`),
      label: "Class of the selected boxes only",
      run: (event) => act.digitOfBoxes(event.code.at(-1)!),
    },
    // After another digit it belongs to that; else the stage's own key.
    { keys: ["0"], label: "Fit the picture", hidden: true, run: act.zero },
    { keys: ["/"], label: "Find a class by its name", run: act.findClass },
    {
      keys: digits.map((digit) => `Alt+${digit}`),
      label: "Attribute of the selected boxes",
      run: (event) => act.toggleFlag(Number(event.code.at(-1))),
    },
    { keys: ["."], label: "Next picture", run: act.next },
    { keys: [","], label: "Previous picture", run: act.previous },
    { keys: ["Enter"], label: "Done, and next picture", run: once(act.doneAndNext) },
    { keys: ["u"], label: "Next unlabelled picture", run: once(act.nextUnlabelled) },
    { keys: ["Shift+u"], label: "Least sure picture next", run: once(act.leastSure) },
    { keys: ["z"], label: "No objects", run: once(act.nothingHere) },
    { keys: ["Tab"], label: "Next box", run: act.selectNext },
    { keys: ["Shift+Tab"], label: "Previous box", run: act.selectPrevious },
    { keys: ["Ctrl+a"], label: "Select all boxes", run: act.selectAll },
    { keys: ["Delete", "Backspace"], label: "Delete the selected boxes", run: act.remove },
    { keys: ["b"], label: "Put a box where the pointer is, or in the middle", run: act.putBox },
    { keys: ["t"], label: "Tighten the selected boxes, or all", run: act.tighten },
    { keys: ["Shift+t"], label: "Tighten all boxes", run: act.tightenAll },
    { keys: ["s"], label: "Stamp: one click, one box", run: act.stamp },
    { keys: ["q"], label: "Pass for one class, the rest dimmed", run: act.pass },
    { keys: ["d"], label: "Duplicate the selected boxes", run: act.duplicate },
    { keys: ["Ctrl+c"], label: "Copy the selected boxes", run: act.copy },
    { keys: ["Ctrl+v"], label: "Put copied boxes here", run: act.paste },
    { keys: ["p"], label: "Boxes of the previous picture", run: act.fromPrevious },
    { keys: ["o"], label: "Outlines of the previous picture, to click on", run: act.ghosts },
    { keys: ["h"], label: "Hide all but the selected box", run: act.hideOthers },
    { keys: ["Shift+h"], label: "Hide all boxes", run: act.hideAll },
    { keys: ["v"], label: "How pictures and boxes are shown", run: act.looks },
    { keys: ["Escape"], label: "Give up, clear the selection, then back", run: act.escape },
    { keys: ["Ctrl+z"], label: "Undo, across pictures", run: act.undo },
    { keys: ["Ctrl+Shift+z", "Ctrl+y"], label: "Redo", run: act.redo },
    ...ARROWS.flatMap(([key, dx, dy], index): Key[] => [
      { keys: [key], label: "Move the selected boxes by 1 pixel", hidden: index > 0, run: () => act.nudge(dx, dy) },
      {
        keys: [`Shift+${key}`],
        label: "Move them by 10 pixels",
        hidden: index > 0,
        run: () => act.nudge(10 * dx, 10 * dy),
      },
      {
        keys: [`Ctrl+${key}`],
        label: "Grow or shrink them by 1 pixel",
        hidden: index > 0,
        run: () => act.grow(dx, dy),
      },
      {
        keys: [`Ctrl+Shift+${key}`],
        label: "Grow or shrink them by 10 pixels",
        hidden: index > 0,
        run: () => act.grow(10 * dx, 10 * dy),
      },
    ]),
  ];
  useKeys(keys);
}
