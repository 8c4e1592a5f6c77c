namespace Skevin.Storage.Migrations;

/// <summary>Tables of logs, traces and flows, and what arrives of all four signals; partitions are beyond EF Core's model.</summary>
internal static class SignalTables
{
    /// <summary>Makes them.</summary>
    public const string Up = """
        create sequence block_number;

        -- Log lines (kind 0) and events of the cluster (kind 1): words are a filter over all words in the block.
        create table log_block (
            day date not null,
            id bigint not null,
            cluster_id int not null,
            kind smallint not null,
            from_ms bigint not null,
            to_ms bigint not null,
            lines int not null,
            received_at timestamptz not null,
            words bytea not null,
            payload bytea not null,
            primary key (day, id)
        ) partition by range (day);
        alter table log_block alter column payload set storage external;
        create index on log_block (to_ms);

        create table span_block (
            day date not null,
            id bigint not null,
            cluster_id int not null,
            from_ms bigint not null,
            to_ms bigint not null,
            spans int not null,
            received_at timestamptz not null,
            words bytea not null,
            payload bytea not null,
            primary key (day, id)
        ) partition by range (day);
        alter table span_block alter column payload set storage external;
        create index on span_block (to_ms);
        create index on span_block (received_at);

        -- Which blocks hold spans of a trace; trace is the lower half of its id.
        create table trace_index (
            day date not null,
            trace bigint not null,
            block bigint not null
        ) partition by range (day);
        create index on trace_index (trace);

        -- Flows summed by minute.
        create table flow_block (
            day date not null,
            id bigint not null,
            cluster_id int not null,
            from_ms bigint not null,
            to_ms bigint not null,
            rows int not null,
            received_at timestamptz not null,
            payload bytea not null,
            primary key (day, id)
        ) partition by range (day);
        alter table flow_block alter column payload set storage external;
        create index on flow_block (to_ms);

        -- Who had which address when: addresses are used again.
        create table address_lease (
            cluster_id int not null references cluster (id) on delete cascade,
            address text not null,
            from_ms bigint not null,
            to_ms bigint not null,
            namespace text,
            pod text,
            workload_kind text,
            workload text not null,
            node text not null,
            primary key (cluster_id, address, from_ms)
        );

        alter table arrival_minute add column signal text not null default 'metrics';
        alter table arrival_minute drop constraint arrival_minute_pkey;
        alter table arrival_minute add primary key (cluster_id, signal, source, minute);
        alter table source_status add column signal text not null default 'metrics', add column agent text not null default '';
        alter table source_status drop constraint source_status_pkey;
        alter table source_status add primary key (cluster_id, signal, source, agent);
        """;

    /// <summary>Takes them away.</summary>
    public const string Down = """
        drop table log_block, span_block, trace_index, flow_block, address_lease;
        drop sequence block_number;
        delete from arrival_minute where signal <> 'metrics';
        alter table arrival_minute drop constraint arrival_minute_pkey, drop column signal;
        alter table arrival_minute add primary key (cluster_id, source, minute);
        delete from source_status where signal <> 'metrics';
        alter table source_status drop constraint source_status_pkey, drop column signal, drop column agent;
        alter table source_status add primary key (cluster_id, source);
        """;
}
