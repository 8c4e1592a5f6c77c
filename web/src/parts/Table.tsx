import { useState, type ReactNode } from "react";
import styled from "styled-components";
import { Button } from "./basics";

export interface Column<T> {
  id: string;
  title: string;
  /** What is shown. */
  cell: (row: T) => ReactNode;
  /** What it is sorted by and copied as. */
  value?: (row: T) => string | number | null;
  /** Numbers stand at the right, in tabular figures. */
  number?: boolean;
  width?: string;
}

const Frame = styled.div`overflow: auto; flex: 1; min-height: 0;`;
const Grid = styled.table`
  width: 100%;
  @media (max-width: 700px) { min-width: 620px; }
  border-collapse: collapse;
  table-layout: fixed;
  th, td { padding: 0 10px; height: 27px; text-align: left; border-bottom: 1px solid ${({ theme }) => theme.rule}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  th { position: sticky; top: 0; z-index: 1; background: ${({ theme }) => theme.sheet}; color: ${({ theme }) => theme.ink2}; font-weight: 600; }
  th button { height: auto; padding: 2px 0; color: inherit; font-weight: 600; }
  td.sign, th.sign { padding: 0 0 0 10px; text-overflow: clip; }
  td.number, th.number { text-align: right; font-family: ${({ theme }) => theme.mono}; font-variant-numeric: tabular-nums; }
  tbody tr[aria-selected="true"] { background: ${({ theme }) => theme.chosen}; box-shadow: inset 3px 0 0 ${({ theme }) => theme.act}; }
  tbody tr.open { cursor: pointer; }
  tbody tr.open:hover { background: ${({ theme }) => theme.sunk}; }
  tbody tr:focus-visible { outline: 2px solid ${({ theme }) => theme.act}; outline-offset: -2px; }
`;

/** RFC 4180. */
export function csv<T>(columns: Column<T>[], rows: T[]): string {
  const quote = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
  const kept = columns.filter((column) => column.value);
  return [kept.map((column) => quote(column.title)), ...rows.map((row) => kept.map((column) => quote(String(column.value!(row) ?? ""))))].map((line) => line.join(",")).join("\r\n") + "\r\n";
}

const kind = <T,>(column: Column<T>) => (column.number ? "number" : column.title ? "" : "sign");

/** Rows that sort by their columns; a row may be opened with mouse, Enter or Space. */
export function Table<T>({ columns, rows, rowKey, label, chosen, onOpen, first }: {
  columns: Column<T>[]; rows: T[]; rowKey: (row: T) => string; label: string; chosen?: string | null; onOpen?: (row: T) => void; first?: { id: string; down?: boolean };
}) {
  const [sort, setSort] = useState(first);
  const by = columns.find((column) => column.id === sort?.id)?.value;
  const sorted = by ? [...rows].sort((a, b) => {
    const [left, right] = [by(a), by(b)];
    const order = left === right ? 0 : left === null ? 1 : right === null ? -1 : left < right ? -1 : 1;
    return sort?.down ? -order : order;
  }) : rows;
  return (
    <Frame tabIndex={0} role="region" aria-label={label}>
      <Grid aria-label={label}>
        <colgroup>{columns.map((column) => <col key={column.id} style={{ width: column.width }} />)}</colgroup>
        <thead>
          <tr>
            {columns.map((column) => (
              <th key={column.id} className={kind(column)} aria-sort={sort?.id === column.id ? (sort.down ? "descending" : "ascending") : undefined}>
                {column.value && column.title ? (
                  <Button bare onPress={() => setSort({ id: column.id, down: sort?.id === column.id ? !sort.down : column.number })}>
                    {column.title}{sort?.id === column.id ? (sort.down ? " ↓" : " ↑") : ""}
                  </Button>
                ) : column.title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sorted.map((row) => {
            const key = rowKey(row);
            return (
              <tr key={key} className={onOpen ? "open" : ""} aria-selected={onOpen ? key === chosen : undefined} tabIndex={onOpen ? 0 : undefined}
                onClick={() => onOpen?.(row)}
                onKeyDown={(event) => { if (onOpen && (event.key === "Enter" || event.key === " ")) { event.preventDefault(); onOpen(row); } }}>
                {columns.map((column) => (
                  <td key={column.id} className={kind(column)} title={typeof column.value?.(row) === "string" ? String(column.value(row)) : undefined}>{column.cell(row)}</td>
                ))}
              </tr>
            );
          })}
        </tbody>
      </Grid>
    </Frame>
  );
}

/** Copies rows as CSV. */
export function CopyCsv<T>({ columns, rows }: { columns: Column<T>[]; rows: T[] }) {
  const [done, setDone] = useState(false);
  return (
    <Button onPress={async () => { await navigator.clipboard.writeText(csv(columns, rows)); setDone(true); setTimeout(() => setDone(false), 1500); }}>
      {done ? "Copied" : "Copy as CSV"}
    </Button>
  );
}
