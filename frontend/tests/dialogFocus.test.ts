import { beforeAll, beforeEach, describe, expect, test } from "vitest";

import { focusFieldsOfDialogs } from "@/parts/dialogFocus";

describe("a dialog that opens", () => {
  beforeAll(focusFieldsOfDialogs);
  beforeEach(() => {
    document.body.innerHTML = `
      <button id="outside"></button>
      <div class="el-dialog" tabindex="-1" id="form">
        <button id="close"></button>
        <input type="file" /><input type="checkbox" /><input type="text" readonly />
        <input type="text" id="field" /><textarea></textarea>
      </div>
      <div class="el-dialog" tabindex="-1" id="plain"><button></button></div>`;
  });
  const focus = (id: string): string => {
    document.getElementById(id)!.focus();
    return document.activeElement!.id;
  };

  test("has its first text field in focus", () => {
    focus("outside");
    expect(focus("form")).toBe("field");
  });

  test("or itself, where there is none", () => {
    expect(focus("plain")).toBe("plain");
  });

  test("leaves the focus to whoever clicks beside a field", () => {
    focus("close");
    expect(focus("form")).toBe("form");
  });
});
