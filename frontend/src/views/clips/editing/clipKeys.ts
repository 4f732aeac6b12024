/** The keys of labelling a clip. */
import { type Key, useKeys } from "@/state/keys";
import { ARROWS } from "@/views/labels/editing/labelKeys";

export interface ClipActions {
  digit: (digit: string) => void;
  digitOfSelected: (digit: string) => void;
  zero: () => unknown;
  findClass: () => void;
  toggleFlag: (number: number) => void;
  step: (by: number) => void;
  /** To the next box that was set, of the selected objects. */
  dot: (direction: 1 | -1) => unknown;
  /** To the next place where anything was set, begins, ends or is unsure. */
  place: (direction: 1 | -1) => unknown;
  unsure: () => unknown;
  /** To the first or last frame of the selected object, or of the clip. */
  edge: (which: "first" | "last") => void;
  play: () => void;
  faster: (by: 1 | -1) => void;
  setHere: () => unknown;
  unset: () => unknown;
  hold: () => unknown;
  begin: () => unknown;
  end: () => unknown;
  hide: () => unknown;
  show: () => unknown;
  part: () => unknown;
  join: () => unknown;
  removeAll: () => unknown;
  follow: (back: boolean) => unknown;
  propose: () => unknown;
  restore: () => unknown;
  select: (direction: 1 | -1) => boolean;
  selectAll: () => unknown;
  /** These four say whether a proposal is selected that they are for. */
  keep: () => boolean;
  refuse: () => boolean;
  keepAll: () => boolean;
  refuseAll: () => boolean;
  nudge: (dx: number, dy: number) => boolean;
  grow: (dx: number, dy: number) => boolean;
  putBox: () => void;
  trails: () => void;
  frames: () => void;
  export: () => void;
  escape: () => unknown;
  undo: () => void;
  redo: () => void;
}

export function useClipKeys(act: ClipActions): void {
  const digits = ["1", "2", "3", "4", "5", "6", "7", "8", "9"];
  const keys: Key[] = [
    {
      keys: digits,
      label: "Class of new objects, and of those selected by hand",
      run: (event) => act.digit(event.key),
    },
    {
      keys: digits.map((digit) => `Shift+${digit}`),
      label: "Class of the selected objects only",
      run: (event) => act.digitOfSelected(event.code.at(-1)!),
    },
    { keys: ["0"], label: "Fit the picture", hidden: true, run: act.zero },
    { keys: ["/"], label: "Find a class by its name", run: act.findClass },
    {
      keys: digits.map((digit) => `Alt+${digit}`),
      label: "Attribute of the selected objects",
      run: (event) => act.toggleFlag(Number(event.code.at(-1))),
    },
    { keys: ["."], label: "Next frame", run: () => act.step(1) },
    { keys: [","], label: "Previous frame", run: () => act.step(-1) },
    // With Shift, as keyboards have it.
    { keys: [">", ":"], label: "Ten frames on", run: () => act.step(10) },
    { keys: ["<", ";"], label: "Ten frames back", run: () => act.step(-10) },
    { keys: ["Ctrl+."], label: "Next set box of the selected object", run: () => act.dot(1) },
    { keys: ["Ctrl+,"], label: "Previous set box of the selected object", run: () => act.dot(-1) },
    {
      keys: ["PageDown"],
      label: "Next place where something is set, begins, ends or is unsure",
      run: () => act.place(1),
    },
    { keys: ["PageUp"], label: "Previous such place", run: () => act.place(-1) },
    { keys: ["Shift+u"], label: "Least sure places, one after the other", run: act.unsure },
    { keys: ["Home"], label: "First frame of the selected object, or of the clip", run: () => act.edge("first") },
    { keys: ["End"], label: "Last frame of it", run: () => act.edge("last") },
    { keys: [" "], label: "Play or pause the clip", run: act.play },
    { keys: ["Ctrl+ArrowUp"], label: "Play faster", hidden: true, run: () => act.grow(0, -1) || act.faster(1) },
    { keys: ["Ctrl+ArrowDown"], label: "Play slower", hidden: true, run: () => act.grow(0, 1) || act.faster(-1) },
    { keys: ["Enter"], label: "Set the box here as it is", run: act.setHere },
    { keys: ["Delete"], label: "Take the set box of this frame away", run: act.unset },
    { keys: ["Shift+Enter"], label: "Part the object in two here", run: act.part },
    { keys: ["Ctrl+Shift+Enter"], label: "Join the two selected objects", run: act.join },
    { keys: ["Shift+Home"], label: "In sight from here", run: act.begin },
    { keys: ["Shift+End"], label: "In sight until here", run: act.end },
    { keys: ["Ctrl+End"], label: "Out of sight from here, until its next set box", run: act.hide },
    { keys: ["Ctrl+Home"], label: "Back in sight from here", run: act.show },
    { keys: ["Shift+l"], label: "Let it stay as it is until the next set box", run: act.hold },
    { keys: ["Shift+Delete", "Shift+Backspace"], label: "Delete the selected objects whole", run: act.removeAll },
    { keys: ["Shift+f"], label: "Follow the selected objects on", run: () => act.follow(false) },
    { keys: ["Shift+b"], label: "Follow them back", run: () => act.follow(true) },
    { keys: ["Shift+p"], label: "Let a model propose objects", run: act.propose },
    { keys: ["Shift+z"], label: "Restore what was refused", run: act.restore },
    { keys: ["Tab"], label: "Next object on this frame", run: () => act.select(1) },
    { keys: ["Shift+Tab"], label: "Previous object on this frame", run: () => act.select(-1) },
    { keys: ["Ctrl+a"], label: "Select all objects on this frame", run: act.selectAll },
    { keys: ["b"], label: "Put a box where the pointer is, or in the middle", run: act.putBox },
    { keys: ["o"], label: "Outlines of where all objects go", run: act.trails },
    { keys: ["Shift+i"], label: "Into pictures, or objects: how the clip is labelled", run: act.frames },
    { keys: ["e"], label: "Export the objects", run: act.export },
    { keys: ["Escape"], label: "Give up, clear the selection, then back", run: act.escape },
    { keys: ["Ctrl+z"], label: "Undo", run: act.undo },
    { keys: ["Ctrl+Shift+z", "Ctrl+y"], label: "Redo", run: act.redo },
    ...ARROWS.flatMap(([key, dx, dy], index): Key[] => [
      {
        keys: [key],
        label: "Move the selected boxes by 1 pixel; with none, the next or previous frame",
        hidden: index > 0,
        run: () => proposal(key) || act.nudge(dx, dy) || (dx ? act.step(dx) : false),
      },
      {
        keys: [`Shift+${key}`],
        label: "Move them by 10 pixels; with none, ten frames",
        hidden: index > 0,
        run: () => proposals(key) || act.nudge(10 * dx, 10 * dy) || (dx ? act.step(10 * dx) : false),
      },
      ...(dy
        ? []
        : [
            {
              keys: [`Ctrl+${key}`],
              label: "Grow or shrink them by 1 pixel",
              hidden: index > 0,
              run: () => act.grow(dx, dy),
            },
          ]),
    ]),
  ];

  /** What arrows do to a proposal that is selected: kept to the right, refused to the left. */
  function proposal(key: string): boolean {
    return (key === "ArrowRight" && act.keep()) || (key === "ArrowLeft" && act.refuse());
  }
  function proposals(key: string): boolean {
    return (key === "ArrowRight" && act.keepAll()) || (key === "ArrowLeft" && act.refuseAll());
  }
  useKeys(keys);
}
