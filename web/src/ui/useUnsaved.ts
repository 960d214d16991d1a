import { useEventListener } from '@vueuse/core'
import { Modal } from 'ant-design-vue'
import { onScopeDispose } from 'vue'
import { useRouter } from 'vue-router'

/**
 * Keeps what was typed: whoever goes to another page, or closes the dialog, with changes that are not saved is asked
 * first. The answer says whether to go.
 */
export function useUnsaved(isChanged: () => boolean): { mayLeave: () => Promise<boolean> } {
  const mayLeave = () =>
    isChanged()
      ? new Promise<boolean>((answer) =>
          Modal.confirm({
            title: 'Discard the changes?',
            content: 'What was typed here is not saved.',
            okText: 'Discard',
            cancelText: 'Cancel',
            onOk: () => answer(true),
            onCancel: () => answer(false),
          }),
        )
      : Promise.resolve(true)
  // Another state of the same page is no other page.
  const end = useRouter().beforeEach((to, from) => to.path === from.path || mayLeave())
  onScopeDispose(end)
  useEventListener(window, 'beforeunload', (event) => {
    if (isChanged()) event.preventDefault()
  })
  return { mayLeave }
}
