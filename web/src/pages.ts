import type { Schemas } from './api/client'

/** The parts of the application, in the order of the work. One that has no page yet is not shown. */
export const VERBS = ['Watch', 'Diagnose', 'Tune', 'Protect', 'Run'] as const
export type Verb = (typeof VERBS)[number]

/** A page. Router, navigation, the roster's links and the tests that go over every page are made from the list. */
export interface Page {
  /** Its name for links. */
  name: string
  /** Its name for people: what it shows. */
  title: string
  /** Where it is. A page of one instance has `:instance` in it. */
  path: string
  /** The part that it belongs to; a page about Hurnix itself has none, and is in the menu of who is signed in. */
  verb?: Verb
  /** The list whose single things it shows; it has no place of its own in the navigation. */
  of?: string
  /** Whether it shows the window of time that is chosen on the ruler. */
  usesTime?: true
  /** Whether it compares that window with an earlier one. */
  comparesTime?: true
  /** The key that goes to it, after `g`. */
  key?: string
  /** Who may see it: accounts with this role, or one that may do more. */
  role?: Schemas['Role']
  /** The page itself, fetched when it is shown. */
  component: () => Promise<unknown>
}

export const PAGES: readonly Page[] = [
  {
    name: 'instances',
    title: 'Instances',
    path: 'watch/instances',
    verb: 'Watch',
    key: 'i',
    component: () => import('./watch/InstancesPage.vue'),
  },
  {
    name: 'alarms',
    title: 'Alarms',
    path: 'watch/alarms',
    verb: 'Watch',
    key: 'm',
    component: () => import('./watch/AlarmsPage.vue'),
  },
  {
    name: 'alarm',
    title: 'Alarm',
    path: 'watch/alarms/:alarm(\\d+)',
    of: 'alarms',
    component: () => import('./watch/AlarmPage.vue'),
  },
  {
    name: 'thresholds',
    title: 'Thresholds',
    path: 'watch/thresholds',
    verb: 'Watch',
    key: 'v',
    component: () => import('./watch/ThresholdsPage.vue'),
  },
  {
    name: 'sessions',
    title: 'Sessions',
    path: 'on/:instance/watch/sessions',
    verb: 'Watch',
    key: 's',
    component: () => import('./watch/SessionsPage.vue'),
  },
  {
    name: 'operations',
    title: 'Long operations',
    path: 'on/:instance/watch/operations',
    verb: 'Watch',
    key: 'p',
    component: () => import('./watch/OperationsPage.vue'),
  },
  {
    name: 'collection',
    title: 'Collection',
    path: 'on/:instance/watch/collection',
    verb: 'Watch',
    key: 'c',
    component: () => import('./watch/CollectionPage.vue'),
  },
  {
    name: 'first-look',
    title: 'First look',
    path: 'on/:instance/diagnose/first-look',
    verb: 'Diagnose',
    key: 'f',
    component: () => import('./diagnose/FirstLookPage.vue'),
  },
  {
    name: 'load',
    title: 'Load',
    path: 'on/:instance/diagnose/load',
    verb: 'Diagnose',
    usesTime: true,
    comparesTime: true,
    key: 'l',
    component: () => import('./diagnose/LoadPage.vue'),
  },
  {
    name: 'resources',
    title: 'Resources',
    path: 'on/:instance/diagnose/resources',
    verb: 'Diagnose',
    usesTime: true,
    key: 'r',
    component: () => import('./diagnose/ResourcesPage.vue'),
  },
  {
    name: 'replication',
    title: 'Replication',
    path: 'on/:instance/diagnose/replication',
    verb: 'Diagnose',
    usesTime: true,
    key: 'y',
    component: () => import('./diagnose/ReplicationPage.vue'),
  },
  {
    name: 'blocking',
    title: 'Blocking',
    path: 'on/:instance/diagnose/blocking',
    verb: 'Diagnose',
    usesTime: true,
    key: 'k',
    component: () => import('./diagnose/BlockingPage.vue'),
  },
  {
    name: 'statements',
    title: 'Statements',
    path: 'on/:instance/diagnose/statements',
    verb: 'Diagnose',
    usesTime: true,
    key: 'q',
    component: () => import('./diagnose/StatementsPage.vue'),
  },
  {
    name: 'family',
    title: 'Statement',
    path: 'on/:instance/diagnose/statements/:family(\\d+)',
    of: 'statements',
    usesTime: true,
    comparesTime: true,
    component: () => import('./diagnose/FamilyPage.vue'),
  },
  {
    name: 'plan',
    title: 'Read a plan',
    path: 'diagnose/plan',
    of: 'statements',
    component: () => import('./diagnose/PlanPage.vue'),
  },
  {
    name: 'changes',
    title: 'Lasting changes',
    path: 'on/:instance/diagnose/changes',
    verb: 'Diagnose',
    key: 'h',
    component: () => import('./diagnose/ChangesPage.vue'),
  },
  {
    name: 'then-and-now',
    title: 'Then & now',
    path: 'on/:instance/diagnose/then-and-now',
    verb: 'Diagnose',
    usesTime: true,
    comparesTime: true,
    key: 't',
    component: () => import('./diagnose/ThenAndNowPage.vue'),
  },
  {
    name: 'reports',
    title: 'Reports',
    path: 'on/:instance/diagnose/reports',
    verb: 'Diagnose',
    usesTime: true,
    comparesTime: true,
    key: 'e',
    component: () => import('./diagnose/ReportPage.vue'),
  },
  {
    name: 'kept-reports',
    title: 'Kept reports',
    path: 'diagnose/reports',
    of: 'reports',
    key: 'x',
    component: () => import('./diagnose/KeptReportsPage.vue'),
  },
  {
    name: 'kept-report',
    title: 'Kept report',
    path: 'diagnose/reports/:report(\\d+)',
    of: 'reports',
    component: () => import('./diagnose/KeptReportPage.vue'),
  },
  {
    name: 'databases',
    title: 'Databases',
    path: 'on/:instance/diagnose/databases',
    verb: 'Diagnose',
    usesTime: true,
    key: 'd',
    component: () => import('./diagnose/DatabasesPage.vue'),
  },
  {
    name: 'database',
    title: 'Database',
    path: 'on/:instance/diagnose/databases/:database',
    of: 'databases',
    usesTime: true,
    component: () => import('./diagnose/DatabasePage.vue'),
  },
  {
    name: 'log',
    title: 'Log',
    path: 'on/:instance/diagnose/log',
    verb: 'Diagnose',
    usesTime: true,
    key: 'o',
    component: () => import('./diagnose/LogPage.vue'),
  },
  {
    name: 'board',
    title: 'Board',
    path: 'on/:instance/diagnose/board',
    verb: 'Diagnose',
    usesTime: true,
    key: 'b',
    component: () => import('./diagnose/BoardPage.vue'),
  },
  {
    name: 'advice-book',
    title: 'Advice book',
    path: 'on/:instance/tune/advice',
    verb: 'Tune',
    key: 'a',
    component: () => import('./tune/AdviceBookPage.vue'),
  },
  {
    name: 'advice',
    title: 'Advice',
    path: 'on/:instance/tune/advice/:advice(\\d+)',
    of: 'advice-book',
    component: () => import('./tune/AdvicePage.vue'),
  },
  {
    name: 'indexes',
    title: 'Indexes',
    path: 'on/:instance/tune/indexes',
    verb: 'Tune',
    key: 'n',
    component: () => import('./tune/IndexesPage.vue'),
  },
  {
    name: 'table',
    title: 'Table',
    path: 'on/:instance/tune/tables/:database/:schema/:table',
    of: 'indexes',
    component: () => import('./tune/TablePage.vue'),
  },
  {
    name: 'account',
    title: 'Your account',
    path: 'account',
    component: () => import('./people/AccountPage.vue'),
  },
  {
    name: 'windows',
    title: 'Maintenance windows',
    path: 'maintenance-windows',
    component: () => import('./people/WindowsPage.vue'),
  },
  {
    name: 'actions',
    title: 'Actions and approvals',
    path: 'actions',
    role: 'administrator',
    component: () => import('./people/ActionsPage.vue'),
  },
  {
    name: 'accounts',
    title: 'Accounts',
    path: 'accounts',
    role: 'administrator',
    component: () => import('./people/AccountsPage.vue'),
  },
  {
    name: 'audit',
    title: 'Audit trail',
    path: 'audit-trail',
    role: 'administrator',
    component: () => import('./people/AuditPage.vue'),
  },
]

const BY_NAME = new Map(PAGES.map((page) => [page.name, page]))

/** The page of a name; nothing for what is no page of the list, such as signing in. */
export function pageNamed(name: unknown): Page | undefined {
  return typeof name === 'string' ? BY_NAME.get(name) : undefined
}

/** The entry of the navigation that a page belongs to: itself, or the list whose single things it shows. */
export function entryOf(page: Page | undefined): Page | undefined {
  return page?.of ? BY_NAME.get(page.of) : page
}

/** Whether a page is about one instance. */
export function needsInstance(page: Page): boolean {
  return page.path.includes(':instance')
}

const ROLES: readonly Schemas['Role'][] = ['reader', 'tuner', 'administrator']

/** Whether somebody with a role sees a page. */
export function sees(role: Schemas['Role'] | undefined, page: Page): boolean {
  return page.role === undefined || (role !== undefined && ROLES.indexOf(role) >= ROLES.indexOf(page.role))
}

/** Entries of the navigation that somebody with a role sees: of a part, or about Hurnix itself. */
export function entries(verb: Verb | undefined, role: Schemas['Role'] | undefined): Page[] {
  return PAGES.filter((page) => page.verb === verb && page.of === undefined && sees(role, page))
}
