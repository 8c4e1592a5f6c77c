namespace Skevin.Storage.Migrations;

/// <summary>Tables the bulk paths use; partitions are beyond EF Core's model.</summary>
internal static class SampleTables
{
    /// <summary>Makes them.</summary>
    public const string Up = """
        create table series (
            id bigint generated always as identity primary key,
            cluster_id int not null references cluster (id) on delete cascade,
            hash bytea not null unique,
            metric text not null,
            kind smallint not null,
            unit text not null,
            attributes jsonb not null,
            created_at timestamptz not null default now()
        );
        create index on series (cluster_id, metric);

        -- Compact rows: the durable log of the head. Each holds samples of one day.
        create table sample_batch (
            day date not null,
            id bigint generated always as identity,
            cluster_id int not null,
            from_ms bigint not null,
            to_ms bigint not null,
            samples int not null,
            received_at timestamptz not null,
            payload bytea not null,
            primary key (day, id)
        ) partition by range (day);
        alter table sample_batch alter column payload set storage external;

        -- Which requests were taken, longer than any agent's buffer keeps them.
        create table ingest_key (
            sender uuid not null,
            key text not null,
            received_at timestamptz not null,
            primary key (sender, key)
        );
        create index on ingest_key (received_at);

        create table arrival_minute (
            cluster_id int not null references cluster (id) on delete cascade,
            source text not null,
            minute bigint not null,
            samples int not null,
            received_at timestamptz not null,
            primary key (cluster_id, source, minute)
        );
        create index on arrival_minute (cluster_id, minute);

        create table source_status (
            cluster_id int not null references cluster (id) on delete cascade,
            source text not null,
            at timestamptz not null,
            read bigint not null,
            sent bigint not null,
            dropped bigint not null,
            error text,
            primary key (cluster_id, source)
        );
        """;

    /// <summary>Takes them away.</summary>
    public const string Down = "drop table source_status, arrival_minute, ingest_key, sample_batch, series;";
}
