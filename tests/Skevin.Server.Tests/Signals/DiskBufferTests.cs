using CsCheck;
using Skevin.Agent.Buffer;

namespace Skevin.Server.Tests.Signals;

/// <summary>Batches and read marks on disk: both or neither, whatever is killed when.</summary>
public sealed class DiskBufferTests
{
    [Fact]
    public void Marks_are_those_of_what_was_sealed_whatever_was_sent_and_wherever_it_was_killed() => Gen.Int[0, 6].Array[1, 40].Sample(steps =>
    {
        var folder = Directory.CreateTempSubdirectory("skevin-buffer").FullName;
        var (buffer, marks, waiting, sealedCount) = (new DiskBuffer(folder), new Dictionary<string, long>(), 0, 0);
        foreach (var (step, i) in steps.Select((step, i) => (step, i)))
            switch (step)
            {
                case 0 or 1:
                    buffer.Seal("logs", "body"u8, [new BatchContent("logs", "a", 1)], new Dictionary<string, long?> { ["log:" + i % 3] = i });
                    (marks["log:" + i % 3], waiting, sealedCount) = (i, waiting + 1, sealedCount + 1);
                    break;
                case 2:
                    buffer.Seal("metrics", "body"u8, []);
                    waiting++;
                    break;
                case 3:
                    buffer.Seal("logs", "body"u8, [], new Dictionary<string, long?> { ["log:" + i % 3] = null });
                    marks.Remove("log:" + i % 3);
                    waiting++;
                    break;
                case 4 when buffer.Oldest is { } oldest:
                    buffer.Remove(oldest);
                    waiting--;
                    break;
                case 5:
                    // Killed in the middle of a write: half a batch and half a file of marks lie there.
                    File.WriteAllText(Path.Combine(folder, $"{i:D16}_x_logs.batch.part"), "SKV1");
                    File.WriteAllText(Path.Combine(folder, "marks.json.new"), "{\"Through\":99,");
                    buffer = new DiskBuffer(folder);
                    break;
                case 6:
                    buffer = new DiskBuffer(folder);
                    break;
            }
        buffer = new DiskBuffer(folder);
        buffer.Count.ShouldBe(waiting);
        buffer.Marks("log:").Order().Select(name => (name, buffer.Mark(name)!.Value)).ShouldBe(marks.OrderBy(pair => pair.Key).Select(pair => (pair.Key, pair.Value)));
        Directory.Delete(folder, recursive: true);
    }, iter: 200);

    [Fact]
    public async Task A_batch_keeps_its_contents_and_its_body_across_a_restart_and_one_of_an_older_version_is_still_sent()
    {
        var folder = Directory.CreateTempSubdirectory("skevin-buffer").FullName;
        new DiskBuffer(folder).Seal("flows", "the body"u8, [new BatchContent("flows", "node/north-1", 7)], new Dictionary<string, long?> { ["flow:x"] = 3 });
        await File.WriteAllBytesAsync(Path.Combine(folder, "0000000000000001_k_metrics.batch"), [31, 139, 8, 0]);
        var again = new DiskBuffer(folder);
        var first = again.Oldest!;
        first.Contents.ShouldBe([new BatchContent("flows", "node/north-1", 7)]);
        System.Text.Encoding.UTF8.GetString(await first.Body(default)).ShouldBe("the body");
        again.Remove(first);
        (await again.Oldest!.Body(default)).ShouldBe([31, 139, 8, 0]);
    }
}
