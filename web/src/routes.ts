import { lazy, type ComponentType } from "react";
import { NowPage } from "./pages/NowPage";

/** A page of the console. One with a role is for those who have it; `whole` says that they have to
 *  see all that the service holds. */
export interface Page {
  at: string;
  name: string;
  show: ComponentType;
  role?: string;
  whole?: boolean;
  hidden?: boolean;
  /** Without the head and the links to other pages. */
  bare?: boolean;
}

const page = <K extends string>(load: () => Promise<Record<K, ComponentType>>, name: K) =>
  lazy(async () => ({ default: (await load())[name] }));

export const pages: Page[] = [
  { at: "/", name: "Now", show: NowPage },
  { at: "/trends", name: "Trends", show: page(() => import("./pages/TrendsPage"), "TrendsPage") },
  { at: "/boards", name: "Boards", show: page(() => import("./pages/BoardsPage"), "BoardsPage") },
  {
    at: "/boards/:board",
    name: "Board",
    hidden: true,
    show: page(() => import("./pages/BoardPage"), "BoardPage"),
  },
  {
    at: "/series",
    name: "Series",
    hidden: true,
    show: page(() => import("./pages/SeriesPage"), "SeriesPage"),
  },
  { at: "/notes", name: "Notes", show: page(() => import("./pages/NotesPage"), "NotesPage") },
  { at: "/links", name: "Links", show: page(() => import("./pages/LinksPage"), "LinksPage") },
  {
    at: "/rejects",
    name: "Rejects",
    role: "engineer",
    whole: true,
    show: page(() => import("./pages/RejectsPage"), "RejectsPage"),
  },
  {
    at: "/field",
    name: "Field",
    role: "engineer",
    whole: true,
    show: page(() => import("./pages/FieldPage"), "FieldPage"),
  },
  {
    at: "/access",
    name: "Access",
    role: "administrator",
    whole: true,
    show: page(() => import("./pages/AccessPage"), "AccessPage"),
  },
  {
    at: "/account",
    name: "Account",
    hidden: true,
    show: page(() => import("./pages/AccountPage"), "AccountPage"),
  },
  { at: "/docs", name: "Manual", hidden: true, show: page(() => import("./pages/DocsPage"), "DocsPage") },
  {
    at: "/docs/:page",
    name: "Manual",
    hidden: true,
    show: page(() => import("./pages/DocsPage"), "DocsPage"),
  },
  {
    at: "/wall",
    name: "Wall",
    hidden: true,
    bare: true,
    show: page(() => import("./pages/WallPage"), "WallPage"),
  },
];
