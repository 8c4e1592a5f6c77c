import { keepPreviousData, useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Card, Heading, Mark, Quiet, Trouble } from "../parts/basics";

const Two = styled(Card)`
  display: grid;
  grid-template-columns: 1fr 1.4fr;
  margin-top: 12px;
  border-left: 3px solid ${({ theme }) => theme.act};
  > div { padding: 10px 14px; }
  > div.before { grid-column: 1 / -1; border-top: 1px solid ${({ theme }) => theme.rule}; }
  > div + div:not(.before) { border-left: 1px solid ${({ theme }) => theme.rule}; }
  ul { margin: 4px 0 0; padding-left: 18px; }
  @media (max-width: 900px) { grid-template-columns: 1fr; }
`;

/** What a draft changes against the plan in force, and what follows of it. */
export function Difference({ cluster, plan, title }: { cluster: string; plan: Schemas["CollectionPlan"]; title: string }) {
  const looked = useQuery({ queryKey: ["manifests", cluster, plan], placeholderData: keepPreviousData, queryFn: () => got(api.POST("/api/clusters/{name}/collection/manifests", { params: { path: { name: cluster } }, body: { plan } })) });
  if (looked.error) return <Trouble error={looked.error} />;
  const { difference, problems } = looked.data ?? {};
  const held = (looked.data?.preflight ?? []).filter((item) => item.level !== "clear");
  const well = (looked.data?.preflight ?? []).length - held.length;
  return (
    <Two role="status" aria-label={title}>
      <div><Heading>{title}</Heading><ul>{(difference?.changes ?? []).map((text) => <li key={text}>{text}</li>)}</ul>{difference?.changes.length === 0 && <Quiet>Nothing.</Quiet>}</div>
      <div><Heading>What follows</Heading><ul>{(difference?.consequences ?? []).map((text) => <li key={text}>{text}</li>)}</ul>{difference?.consequences.length === 0 && <Quiet>The same sources, as much data, the same rights.</Quiet>}
        {(problems ?? []).map((problem) => <Trouble key={problem} error={problem} />)}</div>
      {looked.data && <div className="before"><Heading>Before it is rolled out</Heading>
        {held.map((item) => <div key={item.what}><Mark level={item.level} title={item.level} /><b>{item.what}</b>: {item.found}. <Quiet>{item.fix}</Quiet></div>)}
        <Quiet title={(looked.data.preflight ?? []).filter((item) => item.level === "clear").map((item) => `${item.what}: ${item.found}`).join("\n")}>{held.length === 0 ? `Nothing would hold it up: ${(looked.data.preflight ?? []).map((item) => item.what.toLowerCase()).join(", ")}.` : `${well} others are in order.`}</Quiet></div>}
    </Two>
  );
}
