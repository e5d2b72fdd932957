"use strict";

const http = require("node:http");

const { line } = require("pier-notices");

/** Notices, the newest first. */
function pinned(notices) {
  return [...notices].sort((a, b) => b.day.localeCompare(a.day)).map(line);
}

const notices = [
  { day: "2026-03-02", text: "The 06:10 goes at 06:20 in April" },
  { day: "2026-03-09", text: "Lost: one red mitten, pier 2" },
];

if (require.main === module) {
  http
    .createServer((_, answer) => answer.end(`${pinned(notices).join("\n")}\n`))
    .listen(Number(process.env.BOARD_PORT), "127.0.0.1");
}

module.exports = { pinned };
