// Runs before all else, and before the first paint, so that a dark room stays dark. It is no module
// once it is built, and so can import nothing.
const chosen = localStorage.getItem("theme");
const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
document.documentElement.dataset.theme = dark ? "dark" : "light";
// What the first page needs is asked for while the console itself still loads. What only those who
// are logged in may see is asked for where that worked the last time.
const calls = localStorage.getItem("seen") ? ["session", "series"] : ["session"];
if (calls.length > 1 && location.pathname === "/") calls.push("now");
window.early = new Map(calls.map((call) => [call, fetch(`/api/v1/${call}`).catch(() => null)]));
// The browser reads its tables of how numbers are written while it would only wait.
new Intl.NumberFormat().format(0.5);
