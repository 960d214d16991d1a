import { createRouter, createWebHistory, type RouteRecordRaw } from 'vue-router'
import { whenSignedOut } from './api/client'
import AppFrame from './frame/AppFrame.vue'
import { PAGES } from './pages'
import NewPassword from './people/NewPassword.vue'
import SignIn from './SignIn.vue'
import { useSession } from './stores/session'

/** Every page of the list, within the frame. */
const pages = PAGES.map(
  ({ name, path, component }) => ({ name, path, component }) as unknown as RouteRecordRaw,
)

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
        ...pages,
        // Not in what is built for use.
        ...(import.meta.env.DEV
          ? [{ path: 'parts', name: 'parts', component: () => import('./ui/PartsPage.vue') }]
          : []),
        { path: ':rest(.*)*', name: 'not-found', component: () => import('./frame/NotFoundPage.vue') },
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
