import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { askAhead, newQueries } from "./api/hooks";
import { App } from "./App";
import { live } from "./live/store";
import { watchPaper } from "./parts/paper";
import "uplot/dist/uPlot.min.css";
import "./theme.css";

const patience = 100; // ms; a page drawn once, with its values, is there sooner than one drawn thrice

const queries = newQueries();
watchPaper();

function draw() {
  const root = document.getElementById("root");
  if (!root) return;
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}

void Promise.race([
  Promise.all([askAhead(queries), live.takeEarly()]),
  new Promise((done) => setTimeout(done, patience)),
]).then(draw);
