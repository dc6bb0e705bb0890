import { Form, Input } from "antd";
import { commonOf, commonValues, withValue } from "./commonRules";
import * as say from "words/parts/RulesForm";

/** The values of the house rules that are changed often: each is written into the document, which stays as it is but for that. */
export function RulesForm({ document, readOnly, onChange }: { document: string; readOnly: boolean; onChange: (document: string) => void }) {
  const values = commonOf(document);
  if (!values) return <p className="quiet">{say.theDocumentCannotBe()}</p>;
  return (
    <Form layout="horizontal" labelCol={{ flex: "260px" }} labelAlign="left" colon={false} requiredMark={false} aria-label={say.commonValues()}>
      {commonValues.map((v, i) => (
        <Form.Item key={v.path.join(".")} label={v.label} htmlFor={v.path.join(".")} extra={v.unit && !values[i] ? v.unit : undefined} style={{ marginBottom: 8 }}>
          <Input id={v.path.join(".")} style={{ width: 200 }} disabled={readOnly} placeholder={say.notSaid()} defaultValue={values[i]} onPressEnter={(e) => e.currentTarget.blur()} onBlur={(e) => e.target.value.trim() !== values[i] && onChange(withValue(document, v.path, e.target.value))} />
        </Form.Item>
      ))}
    </Form>
  );
}
