"use strict";

const assert = require("node:assert");
const test = require("node:test");

const { pinned } = require("./board.js");

test("the newest notice hangs on top", () => {
  const notices = [{ day: "2026-01-01", text: "a" }, { day: "2026-01-02", text: "b" }];
  assert.deepStrictEqual(pinned(notices), ["Friday, 2026-01-02  b", "Thursday, 2026-01-01  a"]);
});
