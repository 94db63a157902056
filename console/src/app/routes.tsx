import { createBrowserRouter } from "react-router";
import { Frame } from "./frame";
import { Wrong } from "./wrong";

/** What is seen before the first page is loaded. */
const Nothing = () => null;

/** Every page has an address of its own, and is loaded when it is first opened. */
export const router = createBrowserRouter([
  { path: "/sign-in", lazy: () => import("~/signin/sign-in"), ErrorBoundary: Wrong, HydrateFallback: Nothing },
  { path: "/join", lazy: () => import("~/signin/join"), ErrorBoundary: Wrong, HydrateFallback: Nothing },
  {
    path: "/",
    Component: Frame,
    ErrorBoundary: Wrong,
    HydrateFallback: Nothing,
    children: [
      {
        ErrorBoundary: Wrong,
        children: [
          { index: true, lazy: () => import("~/today/today") },
          { path: "lines", lazy: () => import("~/lines/lines") },
          { path: "lines/:name", lazy: () => import("~/lines/line") },
          { path: "versions/*", lazy: () => import("~/version/version") },
          { path: "machines", lazy: () => import("~/machines/machines") },
          { path: "machines/:region/:machine", lazy: () => import("~/machines/machine") },
          { path: "sheets", lazy: () => import("~/sheets/sheets") },
          { path: "sheets/:name", lazy: () => import("~/sheets/sheet") },
          { path: "operations", lazy: () => import("~/operations/operations") },
          { path: "operations/:id", lazy: () => import("~/operations/operation") },
          { path: "instances", lazy: () => import("~/instances/instances") },
          { path: "instances/:id", lazy: () => import("~/instances/instance") },
          { path: "launch", lazy: () => import("~/launch/launch") },
          { path: "calendar", lazy: () => import("~/calendar/calendar") },
          { path: "ledger", lazy: () => import("~/ledger/ledger") },
          { path: "packages", lazy: () => import("~/packages/packages") },
          { path: "regions", lazy: () => import("~/regions/regions") },
          { path: "people", lazy: () => import("~/people/people") },
          { path: "*", lazy: () => import("./nowhere") },
        ],
      },
    ],
  },
]);
