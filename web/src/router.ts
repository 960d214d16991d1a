import { createRouter, createWebHistory } from 'vue-router'
import AppFrame from './frame/AppFrame.vue'
import NewPassword from './people/NewPassword.vue'
import SignIn from './SignIn.vue'
import { whenSignedOut } from './api/client'
import { useSession } from './stores/session'

declare module 'vue-router' {
  interface RouteMeta {
    /** The entry of the navigation that the page belongs to. */
    page?:
      | 'instances'
      | 'figures'
      | 'sessions'
      | 'actions'
      | 'windows'
      | 'first-look'
      | 'databases'
      | 'load'
      | 'statements'
      | 'advice-book'
      | 'account'
      | 'accounts'
      | 'audit'
  }
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: SignIn },
    { path: '/new-password', name: 'new-password', component: NewPassword },
    {
      path: '/',
      component: AppFrame,
      children: [
        { path: '', redirect: { name: 'instances' } },
        {
          path: 'watch/instances',
          name: 'instances',
          component: () => import('./watch/InstancesPage.vue'),
          meta: { page: 'instances' },
        },
        {
          path: 'on/:instance/watch/sessions',
          name: 'sessions',
          component: () => import('./watch/SessionsPage.vue'),
          meta: { page: 'sessions' },
        },
        {
          path: 'on/:instance/watch/figures',
          name: 'figures',
          component: () => import('./watch/FiguresPage.vue'),
          meta: { page: 'figures' },
        },
        {
          path: 'on/:instance/diagnose/first-look',
          name: 'first-look',
          component: () => import('./diagnose/FirstLookPage.vue'),
          meta: { page: 'first-look' },
        },
        {
          path: 'on/:instance/diagnose/load',
          name: 'load',
          component: () => import('./diagnose/LoadPage.vue'),
          meta: { page: 'load' },
        },
        {
          path: 'on/:instance/diagnose/statements',
          name: 'statements',
          component: () => import('./diagnose/StatementsPage.vue'),
          meta: { page: 'statements' },
        },
        {
          path: 'on/:instance/diagnose/statements/:family(\\d+)',
          name: 'family',
          component: () => import('./diagnose/FamilyPage.vue'),
          meta: { page: 'statements' },
        },
        {
          path: 'on/:instance/diagnose/databases',
          name: 'databases',
          component: () => import('./diagnose/DatabasesPage.vue'),
          meta: { page: 'databases' },
        },
        {
          path: 'on/:instance/diagnose/databases/:database',
          name: 'database',
          component: () => import('./diagnose/DatabasePage.vue'),
          meta: { page: 'databases' },
        },
        {
          path: 'on/:instance/tune/advice',
          name: 'advice-book',
          component: () => import('./tune/AdviceBookPage.vue'),
          meta: { page: 'advice-book' },
        },
        {
          path: 'on/:instance/tune/advice/:advice(\\d+)',
          name: 'advice',
          component: () => import('./tune/AdvicePage.vue'),
          meta: { page: 'advice-book' },
        },
        {
          path: 'account',
          name: 'account',
          component: () => import('./people/AccountPage.vue'),
          meta: { page: 'account' },
        },
        {
          path: 'actions',
          name: 'actions',
          component: () => import('./people/ActionsPage.vue'),
          meta: { page: 'actions' },
        },
        {
          path: 'maintenance-windows',
          name: 'windows',
          component: () => import('./people/WindowsPage.vue'),
          meta: { page: 'windows' },
        },
        {
          path: 'accounts',
          name: 'accounts',
          component: () => import('./people/AccountsPage.vue'),
          meta: { page: 'accounts' },
        },
        {
          path: 'audit-trail',
          name: 'audit',
          component: () => import('./people/AuditPage.vue'),
          meta: { page: 'audit' },
        },
        {
          path: ':rest(.*)*',
          name: 'nowhere',
          component: () => import('./frame/NowherePage.vue'),
          meta: { page: 'instances' },
        },
      ],
    },
  ],
})

router.beforeEach(async (to) => {
  if (to.name === 'sign-in') return true
  const session = useSession()
  if (!(await session.resume())) return { name: 'sign-in', query: { next: to.fullPath } }
  // A one-time password serves for nothing but to set another.
  const must = session.current?.must_set_password ?? false
  if (must && to.name !== 'new-password') return { name: 'new-password', query: { next: to.fullPath } }
  return must || to.name !== 'new-password' || { path: '/' }
})

whenSignedOut(() => {
  const session = useSession()
  const here = router.currentRoute.value
  if (session.current === null || here.name === 'sign-in') return
  session.forget()
  void router.push({ name: 'sign-in', query: { next: here.fullPath } })
})
