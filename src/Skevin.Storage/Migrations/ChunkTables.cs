namespace Skevin.Storage.Migrations;

/// <summary>Folded samples: what batch rows become when their two hours are over.</summary>
internal static class ChunkTables
{
    /// <summary>Makes them.</summary>
    public const string Up = """
        -- Samples of one metric and two hours; a row holds the series that were scraped together.
        create table sample_chunk (
            day date not null,
            id bigint generated always as identity,
            cluster_id int not null,
            metric text not null,
            from_ms bigint not null,
            to_ms bigint not null,
            samples int not null,
            payload bytea not null,
            primary key (day, id)
        ) partition by range (day);
        alter table sample_chunk alter column payload set storage external;
        create index on sample_chunk (metric, to_ms);
        """;

    /// <summary>Takes them away.</summary>
    public const string Down = "drop table sample_chunk;";
}
