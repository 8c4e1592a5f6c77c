using Skevin.Storage.Blocks;
using Skevin.Storage.Metrics;

namespace Skevin.Server.Setup;

/// <summary>Makes large blocks of small ones.</summary>
public sealed class MergeWorker(SkevinOptions options, BlockMerging merging, ILogger<MergeWorker> log) : SingleWorker(options.Database, 7303, TimeSpan.FromSeconds(5), "Merging blocks", log)
{
    /// <inheritdoc/>
    protected override async Task Work(CancellationToken stop) => await merging.Run(stop);
}

/// <summary>Turns batch rows of samples into chunks.</summary>
public sealed class FoldWorker(SkevinOptions options, SampleFolding folding, ILogger<FoldWorker> log) : SingleWorker(options.Database, 7304, TimeSpan.FromMinutes(1), "Folding samples", log)
{
    /// <inheritdoc/>
    protected override async Task Work(CancellationToken stop) => await folding.Run(stop);
}
