namespace Skevin.Storage.Migrations;

/// <summary>Summaries of folded samples: what wide slots are answered from, kept longer than the samples; and histograms.</summary>
internal static class SummaryTables
{
    /// <summary>Makes them.</summary>
    public const string Up = """
        -- Of one metric and two hours (end - 2 h, end], in stretches of width_ms.
        create table sample_summary (
            day date not null,
            cluster_id int not null,
            metric text not null,
            width_ms int not null,
            to_ms bigint not null,
            payload bytea not null,
            primary key (day, metric, width_ms, to_ms, cluster_id)
        ) partition by range (day);
        alter table sample_summary alter column payload set storage external;

        create table histogram_block (
            day date not null,
            id bigint not null,
            cluster_id int not null,
            from_ms bigint not null,
            to_ms bigint not null,
            samples int not null,
            received_at timestamptz not null,
            payload bytea not null,
            primary key (day, id)
        ) partition by range (day);
        alter table histogram_block alter column payload set storage external;
        create index on histogram_block (to_ms);
        """;

    /// <summary>Takes them away.</summary>
    public const string Down = "drop table histogram_block, sample_summary;";
}
