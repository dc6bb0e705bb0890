import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input } from "antd";
import { useState } from "react";
import { Problem } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { when } from "words/times";
import { Themed } from "../Themed";
import { enrol, guestKey, offerOf } from "../service/people";
import { signIn } from "../service/session";
import * as say from "words/pages/EnrolPage";

type Fields = { name?: string; full_name?: string; email?: string; password: string };

/** Where an enrolment link leads: set up the account, or a new password. */
export function EnrolPage() {
  return (
    <Themed>
      <Enrol />
    </Themed>
  );
}

function Enrol() {
  const [key] = useState(() => location.hash.slice(1));
  const offer = useQuery(offerOf(key));
  const use = useMutation({
    mutationFn: async (f: Fields) => {
      const p = await enrol({ key, ...f, ...fixed });
      await signIn({ name: p.name, password: f.password });
    },
    onSuccess: () => location.assign(key.startsWith(guestKey) ? `/go/${key.slice(guestKey.length)}` : "/"),
  });
  const again = offer.data?.person;
  const fixed = { ...(offer.data?.name && { name: offer.data.name }), ...(offer.data?.full_name && { full_name: offer.data.full_name }), ...(offer.data?.email && { email: offer.data.email }) };
  return (
    <main className="narrow">
      <h1>{again ? say.aNewPasswordFor(again) : say.setUpYourAccount()}</h1>
      {offer.error && <ProblemNote error={offer.error instanceof Problem && offer.error.status === 404 ? new Problem(404, say.thisLinkCannotBe(), offer.error.next) : offer.error} />}
      {offer.data && (
        <Form<Fields> initialValues={fixed} layout="vertical" size="large" requiredMark={false} onFinish={(f) => use.mutate(f)}>
          {!again && (
            <>
              <p>{offer.data.until ? say.youWillBeGuest(offer.data.team ?? "", when(offer.data.until)) : say.youWillBeIn(offer.data.role, offer.data.team, when(offer.data.expires_at))}</p>
              <Form.Item name="name" label={say.nameToSignIn()} rules={[{ required: true, message: say.aNamePlease() }]} extra={fixed.name ? say.theLinkIsForIt() : say.lowerCaseLettersAnd()}>
                <Input readOnly={!!fixed.name} autoFocus={!fixed.name} autoComplete="username" spellCheck={false} />
              </Form.Item>
              <Form.Item name="full_name" label={say.fullName()} rules={[{ required: true, message: say.yourFullNamePlease() }]} extra={say.itStandsOnYour()}>
                <Input readOnly={!!fixed.full_name} autoComplete="name" />
              </Form.Item>
              <Form.Item name="email" label={say.mailAddress()} rules={[{ required: true, message: say.yourAddressPlease() }]} extra={say.itStandsOnYour()}>
                <Input readOnly={!!fixed.email} autoComplete="email" />
              </Form.Item>
            </>
          )}
          <Form.Item name="password" label={say.password()} rules={[{ required: true, message: say.aPasswordPlease() }]} extra={say.atLeast8Characters()}>
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          {use.error && (
            <Form.Item>
              <ProblemNote error={use.error} />
            </Form.Item>
          )}
          <Button type="primary" htmlType="submit" loading={use.isPending} block>
            {again ? say.setThePassword() : say.setUpAndSign()}
          </Button>
        </Form>
      )}
    </main>
  );
}
