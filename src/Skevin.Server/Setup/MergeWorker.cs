using Skevin.Storage.Blocks;

namespace Skevin.Server.Setup;

/// <summary>Makes large blocks of small ones.</summary>
public sealed class MergeWorker(SkevinOptions options, BlockMerging merging, ILogger<MergeWorker> log) : SingleWorker(options.Database, 7303, TimeSpan.FromSeconds(5), "Merging blocks", log)
{
    /// <inheritdoc/>
    protected override async Task Work(CancellationToken stop) => await merging.Run(stop);
}
