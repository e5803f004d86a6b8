// Before the first paint, so that a dark room stays dark.
const chosen = localStorage.getItem("theme");
const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
document.documentElement.dataset.theme = dark ? "dark" : "light";
