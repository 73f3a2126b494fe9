"use strict";
// What is shown comes from the stand-in as text, and stays text.
const at = (id) => document.getElementById(id);
let token = "";

async function send(method, path, body) {
  const answer = await fetch(path, {
    method, body: body && JSON.stringify(body),
    headers: token ? { Authorization: "Bearer " + token } : {},
  });
  const reply = await answer.json();
  if (answer.status === 401) leave();
  return { ok: answer.ok, said: reply.said || [], token: reply.token, status: answer.status };
}

function show(id) {
  for (const other of ["sign-in", "choose", "inside"]) at(other).hidden = other !== id;
  const first = at(id).querySelector("input");
  if (first) first.focus();
}

function leave() {
  token = "";
  at("answers").replaceChildren();
  show("sign-in");
}

function wrong(lines) { at("wrong").textContent = lines.join(" "); }

function form(id, handle) {
  at(id).addEventListener("submit", async (event) => {
    event.preventDefault();
    wrong([]);
    const fields = Object.fromEntries([...new FormData(event.target)].filter(([, value]) => value !== ""));
    try { await handle(fields, event.target); } catch (fault) { wrong(["The stand-in does not answer."]); }
  });
}

form("sign-in", async (fields, sheet) => {
  const reply = await send("POST", "/sign-in", fields);
  if (!reply.ok) return wrong(reply.said);
  token = reply.token;
  sheet.reset();
  await enter();
});

form("choose", async (fields, sheet) => {
  const reply = await send("POST", "/password", fields);
  if (reply.ok) { leave(); sheet.reset(); }
  wrong(reply.said);
});

form("do", async (fields, sheet) => {
  const reply = await send("POST", "/do", fields);
  if (!token) return wrong(reply.said);
  const box = document.createElement("div"), line = document.createElement("b");
  box.className = reply.ok ? "answer" : "answer no";
  line.textContent = fields.line;
  box.append(line, reply.said.join("\n"));
  at("answers").prepend(box);
  while (at("answers").childElementCount > 20) at("answers").lastChild.remove();
  if (reply.ok) sheet.reset();
});

at("out").addEventListener("click", async () => { await send("POST", "/sign-out"); leave(); });

async function enter() {
  const who = await send("GET", "/whoami");
  if (who.status === 403) return show("choose");
  if (!who.ok) return wrong(who.said);
  at("who").textContent = who.said.join(" ");
  const help = await send("GET", "/help");
  at("may").replaceChildren(...help.said.map((line) => {
    const row = document.createElement("div"), what = document.createElement("span"), where = document.createElement("span");
    const parts = line.split(/ +at /);
    what.textContent = parts[0];
    for (const place of (parts[1] || "").split(", ").filter(Boolean)) {
      const button = document.createElement("button");
      button.type = "button";
      button.textContent = place === "." ? ". (itself)" : place;
      button.addEventListener("click", () => {
        const field = at("do").elements.line;
        const takes = parts[0].endsWith(" …: TEXT");
        field.value = parts[0].replace(" …: TEXT", "") + " at " + (/[ :"\\]/.test(place) ? JSON.stringify(place) : place) + (takes ? ": " : "");
        field.focus();
      });
      where.append(button);
    }
    row.append(what, where);
    return row;
  }));
  show("inside");
}
