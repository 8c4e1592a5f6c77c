namespace Skevin.Storage.Migrations;

/// <summary>Which server wrote what, and in which transaction, so that other servers can follow what it took in.</summary>
internal static class PeerTables
{
    private static readonly string[] Tables = ["sample_batch", "histogram_block", "span_block", "arrival_minute"];

    // A server names itself by its connections' application name.
    /// <summary>Adds the columns.</summary>
    public static readonly string Up = string.Concat(Tables.Select(table => $"""
        alter table {table} add column server text not null default current_setting('application_name'), add column xact xid8 not null default pg_current_xact_id();
        create index on {table} (xact);

        """));

    /// <summary>Takes them away.</summary>
    public static readonly string Down = string.Concat(Tables.Select(table => $"alter table {table} drop column server, drop column xact;\n"));
}
