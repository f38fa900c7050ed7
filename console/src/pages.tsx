// The pages, each loaded when somebody goes to it (see later.tsx).
import { later } from "./later";

export const pages = {
  Access: later("access", () => import("./access").then((m) => m.AccessPage)),
  Adopt: later("adopt", () => import("./adopt").then((m) => m.AdoptPage)),
  Books: later("books", () => import("./books").then((m) => m.BooksPage)),
  Check: later("check", () => import("./workbench").then((m) => m.CheckPage)),
  CloudKeys: later("cloud-keys", () => import("./cloudkeys").then((m) => m.CloudKeysPage)),
  Create: later("create", () => import("./workbench").then((m) => m.CreatePage)),
  Exposed: later("exposed", () => import("./waves").then((m) => m.ExposedPage)),
  Instance: later("instance", () => import("./instances").then((m) => m.InstancePage)),
  Instances: later("instances", () => import("./instances").then((m) => m.InstancesPage)),
  Journal: later("journal", () => import("./journal").then((m) => m.JournalPage)),
  Key: later("key", () => import("./keys").then((m) => m.KeyPage)),
  Keys: later("keys", () => import("./keys").then((m) => m.KeysPage)),
  Launch: later("launch", () => import("./launch").then((m) => m.LaunchPage)),
  Map: later("map", () => import("./map").then((m) => m.MapPage)),
  People: later("people", () => import("./people").then((m) => m.PeoplePage)),
  Report: later("report", () => import("./restore").then((m) => m.ReportPage)),
  Restore: later("restore", () => import("./restore").then((m) => m.RestorePage)),
  Rotate: later("rotate", () => import("./rotation").then((m) => m.RotatePage)),
  RotateMany: later("rotate-many", () => import("./waves").then((m) => m.RotateManyPage)),
  Shells: later("shells", () => import("./shells").then((m) => m.ShellsPage), false),
  Today: later("today", () => import("./today").then((m) => m.TodayPage)),
  Why: later("why", () => import("./why").then((m) => m.WhyPage)),
  Work: later("work", () => import("./work").then((m) => m.WorkPage)),
  WorkList: later("work-list", () => import("./work").then((m) => m.WorkListPage)),
};
