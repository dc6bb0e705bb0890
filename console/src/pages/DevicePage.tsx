import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Space } from "antd";
import type { Me } from "../api/client";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { answerDevice, deviceRequest } from "../service/session";
import * as say from "words/pages/DevicePage";

/** Where somebody types the code of a program that has no browser, and lets it in as them. */
export function DevicePage({ person }: { person: Me }) {
  const [get, set] = useAddress();
  const code = get("code") ?? "";
  const request = useQuery(deviceRequest(code));
  const answer = useMutation({ mutationFn: (allow: boolean) => answerDevice(code, allow) });
  const r = request.data;
  return (
    <>
      <PageHead title={say.letAProgramIn()} />
      <p>{say.typeTheCode()}</p>
      <Form layout="inline" initialValues={{ code }} onFinish={(f: { code: string }) => (answer.reset(), set({ code: f.code.trim().toUpperCase() }))}>
        <Form.Item name="code" rules={[{ required: true, message: say.theCodePlease() }]}>
          <Input autoFocus={!code} aria-label={say.code()} placeholder={say.likeThis()} spellCheck={false} autoComplete="off" style={{ width: 170 }} />
        </Form.Item>
        <Button htmlType="submit" loading={request.isFetching}>
          {say.look()}
        </Button>
      </Form>
      {answer.isSuccess ? (
        <p role="status">{answer.variables ? say.itIsIn() : say.itIsNotLetIn()}</p>
      ) : (
        <>
          <div style={{ marginTop: 16 }}>
            <ProblemNote error={code ? request.error : undefined} />
          </div>
          {r && (
            <section aria-label={say.theProgram()}>
              <p>{say.asksToBeLetIn(<b>{r.client || say.aProgram()}</b>, r.place, r.here, person.name)}</p>
              <p>{say.onlyIfYouBegan()}</p>
              <Space>
                <Button type="primary" loading={answer.isPending} onClick={() => answer.mutate(true)}>
                  {say.letItIn()}
                </Button>
                <Button danger disabled={answer.isPending} onClick={() => answer.mutate(false)}>
                  {say.itWasNotMe()}
                </Button>
              </Space>
              <ProblemNote error={answer.error} />
            </section>
          )}
        </>
      )}
    </>
  );
}
