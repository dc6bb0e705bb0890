import { Typography } from "antd";

/** A link that is shown this once, to be sent to whom it is for. */
export function ShownOnce({ says, link }: { says: string; link: string }) {
  return (
    <>
      <p>{says}</p>
      <Typography.Paragraph copyable code style={{ overflowWrap: "anywhere" }}>
        {link}
      </Typography.Paragraph>
    </>
  );
}
