import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { answer, http, whole, type Schema } from "./client";

type Params = Record<string, string | number | boolean | undefined>;

/** Everything that pages ask for, each under the key by which the live feed renews it. */
export const ask = {
  overview: () => queryOptions({ queryKey: ["overview"], queryFn: () => answer(http.GET("/api/v1/overview")) }),
  regions: () => queryOptions({ queryKey: ["regions"], queryFn: () => answer(http.GET("/api/v1/regions")) }),
  buckets: () => queryOptions({ queryKey: ["buckets"], queryFn: () => answer(http.GET("/api/v1/buckets")) }),
  lines: () =>
    queryOptions({
      queryKey: ["lines"],
      queryFn: () => answer(http.GET("/api/v1/lines", { params: { query: { limit: 500 } } })),
    }),
  line: (name: string) =>
    queryOptions({
      queryKey: ["line", name],
      queryFn: () => answer(http.GET("/api/v1/lines/{name}/overview", { params: { path: { name } } })),
    }),
  lineage: (name: string) =>
    queryOptions({
      queryKey: ["lineage", name],
      queryFn: () => answer(http.GET("/api/v1/lines/{name}/lineage", { params: { path: { name } } })),
    }),
  history: (name: string, days = 120) =>
    queryOptions({
      queryKey: ["history", name, days],
      queryFn: () => answer(http.GET("/api/v1/lines/{name}/history", { params: { path: { name }, query: { days } } })),
    }),
  versions: (line: string) =>
    queryOptions({
      queryKey: ["versions", line],
      queryFn: () =>
        answer(http.GET("/api/v1/lines/{name}/versions", { params: { path: { name: line }, query: { limit: 500 } } })),
    }),
  version: (reference: string) =>
    queryOptions({
      queryKey: ["version", reference],
      queryFn: () => answer(http.GET("/api/v1/versions/{reference}/overview", { params: { path: { reference } } })),
    }),
  proof: (reference: string) =>
    queryOptions({
      queryKey: ["still", "proof", reference],
      queryFn: () => answer(http.GET("/api/v1/versions/{reference}/proof", { params: { path: { reference } } })),
      retry: false,
    }),
  difference: (reference: string, to: string) =>
    queryOptions({
      queryKey: ["still", "difference", reference, to],
      queryFn: () =>
        answer(http.GET("/api/v1/versions/{reference}/difference", { params: { path: { reference }, query: { to } } })),
    }),
  replicas: (reference: string) =>
    queryOptions({
      queryKey: ["replicas", reference],
      queryFn: () => answer(http.GET("/api/v1/versions/{reference}/replicas", { params: { path: { reference } } })),
    }),
  holds: (reference: string) =>
    queryOptions({
      queryKey: ["holds", reference],
      queryFn: () =>
        whole((cursor) =>
          answer(
            http.GET("/api/v1/versions/{reference}/holds", {
              params: { path: { reference }, query: { limit: 500, cursor } },
            }),
          ),
        ),
    }),
  signature: (reference: string) =>
    queryOptions({
      queryKey: ["still", "signature", reference],
      queryFn: () => answer(http.GET("/api/v1/versions/{reference}/signature", { params: { path: { reference } } })),
    }),
  machines: () =>
    queryOptions({
      queryKey: ["machines", "all"],
      queryFn: () => answer(http.GET("/api/v1/machines", { params: { query: { limit: 500, launched: false } } })),
    }),
  machine: (machine: string, region: string) =>
    queryOptions({
      queryKey: ["still", "machine", region, machine],
      queryFn: () =>
        answer(http.GET("/api/v1/machines/{machine}", { params: { path: { machine }, query: { region } } })),
    }),
  inspection: (machine: string, region: string, disk: string[]) =>
    queryOptions({
      queryKey: ["still", "inspection", region, machine, ...disk],
      queryFn: () =>
        answer(
          http.GET("/api/v1/machines/{machine}/inspection", {
            params: { path: { machine }, query: { region, disk: disk.length ? disk : null } },
          }),
        ),
      placeholderData: (before: Schema["Inspection"] | undefined) =>
        before?.machine.id === machine || before?.machine.name === machine ? before : undefined,
    }),
  networks: (region: string) =>
    queryOptions({
      queryKey: ["networks", region],
      queryFn: () => answer(http.GET("/api/v1/regions/{region}/networks", { params: { path: { region } } })),
    }),
  operation: (id: string) =>
    queryOptions({
      queryKey: ["operation", id],
      queryFn: () => answer(http.GET("/api/v1/operations/{operation_id}", { params: { path: { operation_id: id } } })),
    }),
  sheet: (name: string) =>
    queryOptions({
      queryKey: ["saved-sheet", name],
      queryFn: () => answer(http.GET("/api/v1/saved-sheets/{name}", { params: { path: { name } } })),
    }),
  sheetDifference: (name: string, number: number) =>
    queryOptions({
      queryKey: ["still", "sheet-difference", name, number],
      queryFn: () =>
        answer(
          http.GET("/api/v1/saved-sheets/{name}/difference", { params: { path: { name }, query: { new: number } } }),
        ),
    }),
  build: (id: string) =>
    queryOptions({
      queryKey: ["build", id],
      queryFn: () => answer(http.GET("/api/v1/builds/{operation}", { params: { path: { operation: id } } })),
    }),
  checks: (id: string) =>
    queryOptions({
      queryKey: ["check run", id],
      queryFn: () => answer(http.GET("/api/v1/checks/{operation}", { params: { path: { operation: id } } })),
      retry: false,
    }),
  log: (id: string) =>
    queryOptions({
      queryKey: ["log", id],
      queryFn: () =>
        answer(http.GET("/api/v1/operations/{operation_id}/log", { params: { path: { operation_id: id } } })),
    }),
  instance: (id: string) =>
    queryOptions({
      queryKey: ["instance", id],
      queryFn: () => answer(http.GET("/api/v1/instances/{instance}/overview", { params: { path: { instance: id } } })),
    }),
  counts: () => queryOptions({ queryKey: ["counts"], queryFn: () => answer(http.GET("/api/v1/instances/counts")) }),
  calendar: () => queryOptions({ queryKey: ["calendar"], queryFn: () => answer(http.GET("/api/v1/dates")) }),
  events: (filter: Params) =>
    queryOptions({
      queryKey: ["events", filter],
      queryFn: () => answer(http.GET("/api/v1/events", { params: { query: { ...filter, limit: 100 } } })),
      placeholderData: keepPreviousData,
    }),
  packageUse: (name: string) =>
    queryOptions({
      queryKey: ["package-use", name],
      queryFn: () =>
        whole((cursor) =>
          answer(
            http.GET("/api/v1/packages/{name}/versions", { params: { path: { name }, query: { limit: 500, cursor } } }),
          ),
        ),
      enabled: name !== "",
    }),
  members: () =>
    queryOptions({
      queryKey: ["members"],
      queryFn: () =>
        whole((cursor) => answer(http.GET("/api/v1/members", { params: { query: { limit: 500, cursor } } }))),
    }),
  keys: (account: string) =>
    queryOptions({
      queryKey: ["keys", account],
      queryFn: () => answer(http.GET("/api/v1/accounts/{account}/keys", { params: { path: { account } } })),
    }),
  storage: () => queryOptions({ queryKey: ["storage"], queryFn: () => answer(http.GET("/api/v1/storage")) }),
  replicasOfLine: (name: string) =>
    queryOptions({
      queryKey: ["replicas", "line", name],
      queryFn: () =>
        answer(http.GET("/api/v1/lines/{name}/replicas", { params: { path: { name }, query: { limit: 100 } } })),
    }),
  profiles: () =>
    queryOptions({ queryKey: ["still", "profiles"], queryFn: () => answer(http.GET("/api/v1/profiles")) }),
  sharedVersions: () =>
    queryOptions({
      queryKey: ["shared-versions"],
      queryFn: () => answer(http.GET("/api/v1/shared-versions", { params: { query: { limit: 500 } } })),
    }),
  rules: () =>
    queryOptions({
      queryKey: ["rules"],
      queryFn: () =>
        whole((cursor) => answer(http.GET("/api/v1/rules", { params: { query: { limit: 500, cursor } } }))),
    }),
  allowances: () =>
    queryOptions({
      queryKey: ["allowances"],
      queryFn: () =>
        whole((cursor) => answer(http.GET("/api/v1/allowances", { params: { query: { limit: 500, cursor } } }))),
    }),
  firstBoot: () =>
    queryOptions({
      queryKey: ["first-boot"],
      queryFn: () =>
        whole((cursor) => answer(http.GET("/api/v1/first-boot", { params: { query: { limit: 500, cursor } } }))),
    }),
};
