import { useMutation } from "@tanstack/react-query";
import { Form, Modal } from "antd";
import type { ReactNode } from "react";
import { ProblemNote } from "./ProblemNote";
import { useDone } from "./useDone";
import * as say from "words/parts/Ask";

/**
 * A form in a dialogue: it asks once, says what went wrong and stays, and closes when it was done;
 * or shows what came of it, where that is shown this once.
 */
export function Ask<F extends object, R = unknown>({
  title,
  ok,
  initial,
  ask,
  changes,
  onClose,
  onDone,
  shown,
  about,
  width,
  footer,
  children,
}: {
  title: ReactNode;
  ok: string;
  initial?: Partial<F>;
  ask: (fields: F) => Promise<R>;
  /** What is read again, by the beginnings of queries' keys. */
  changes: string[];
  onClose: () => void;
  onDone?: (answer: R) => void;
  shown?: (answer: R) => ReactNode;
  about?: ReactNode; // what stands before the form
  width?: number;
  footer?: (buttons: ReactNode) => ReactNode;
  children: ReactNode;
}) {
  const [form] = Form.useForm<F>();
  const { onSettled } = useDone(...changes);
  const asking = useMutation({ mutationFn: ask, onSettled, onSuccess: (answer) => (shown ? undefined : (onDone ?? onClose)(answer)) });
  const made = shown && asking.isSuccess;
  return (
    <Modal open title={title} okText={made ? say.done() : ok} cancelButtonProps={made ? { style: { display: "none" } } : undefined} width={width} onOk={() => (made ? onClose() : form.submit())} confirmLoading={asking.isPending} onCancel={onClose} footer={footer}>
      {made ? (
        shown(asking.data)
      ) : (
        <>
          {about && <p className="quiet">{about}</p>}
          <Form<F> form={form} layout="vertical" requiredMark={false} initialValues={initial} onFinish={(fields) => asking.mutate(fields)}>
            {children}
            <ProblemNote error={asking.error} />
          </Form>
        </>
      )}
    </Modal>
  );
}
