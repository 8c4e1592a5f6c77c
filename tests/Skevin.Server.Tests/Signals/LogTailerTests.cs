using System.IO.Compression;
using CsCheck;

using Skevin.Agent.Buffer;
using Skevin.Agent.Collection;
using Skevin.Core.Clusters;
using Skevin.Core.Collection;
using Skevin.Core.Formats.ContainerLog;
using Skevin.Core.Formats.Otlp;

namespace Skevin.Server.Tests.Signals;

/// <summary>Log files of containers, read across rotation and restarts: each line once, none lost.</summary>
public sealed class LogTailerTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(1_795_000_000);

    private sealed class Node
    {
        private long _time = Now.ToUnixTimeMilliseconds() * 1_000_000;

        public Node()
        {
            Root = Directory.CreateTempSubdirectory("skevin-node").FullName;
            Folder = Path.Combine(Root, "var/log/pods/auction_ledger-1_u1/ledger");
            Directory.CreateDirectory(Folder);
            Restart();
        }

        public string Root { get; }
        public string Folder { get; }
        public List<string> Got { get; } = [];
        public List<string> Workloads { get; } = [];
        public DateTimeOffset? LostAt { get; private set; }
        public IReadOnlyList<PodState> Pods { get; set; } = [];
        public LogsPlan Plan { get; set; } = new();
        public DateTimeOffset Listed { get; set; } = Now.AddSeconds(1);
        public DiskBuffer Buffer { get; private set; } = null!;
        private LogTailer _tailer = null!;

        public void Write(string message, bool partial = false, bool stderr = false, string file = "0.log") =>
            File.AppendAllText(Path.Combine(Folder, file), ContainerLogLine.Write(_time++, stderr, partial, message));

        public void Rotate(string suffix) => File.Move(Path.Combine(Folder, "0.log"), Path.Combine(Folder, "0.log." + suffix));

        public void Restart()
        {
            Buffer = new DiskBuffer(Path.Combine(Root, "buffer"));
            _tailer = new LogTailer(Root, Buffer);
        }

        /// <summary>One pass; sealed, or as if killed before.</summary>
        public int Read(bool seal = true, double seconds = 0)
        {
            var strange = 0;
            foreach (var lines in _tailer.Read(Plan, Pods, Listed, "n1", Now.AddSeconds(seconds)))
            {
                strange += lines.Strange;
                LostAt = lines.LostAt;
                if (!seal)
                    continue;
                Buffer.Seal("logs", "x"u8, [], lines.Marks);
                if (lines.Count > 0)
                    Workloads.Add(OtlpAttributes.Read(lines.Records.Resource.Attributes).GetValueOrDefault("k8s.deployment.name", "unknown"));
                if (lines.Count > 0)
                    Got.AddRange(lines.Records.ScopeLogs[0].LogRecords.Select(record => record.Body.StringValue));
            }
            return strange;
        }
    }

    [Fact]
    public void Lines_of_a_stack_trace_become_one_with_what_they_belong_to_also_across_passes()
    {
        var node = new Node { Plan = new LogsPlan(Joined: true) };
        node.Write("ERROR no lot", stderr: true);
        node.Write("  at Ledger.Write", stderr: true);
        node.Write("sold");
        node.Write("Caused by: timeout", stderr: true);
        // Only just begun: the rest may be on its way.
        node.Read(seconds: 0.1);
        node.Got.ShouldBeEmpty();
        node.Write("\tat Bank.Call", stderr: true);
        node.Write("next", stderr: true);
        node.Read(seconds: 5);
        node.Got.ShouldBe(["ERROR no lot\n  at Ledger.Write\nCaused by: timeout\n\tat Bank.Call", "sold", "next"]);
        // What goes on from nothing stands for itself; without the rule every line does.
        node.Plan = new LogsPlan();
        node.Write("  indented");
        node.Read(seconds: 9);
        node.Got[^1].ShouldBe("  indented");
    }

    [Fact]
    public void Joining_takes_every_line_once_wherever_the_passes_fall()
    {
        // Stream, whether it goes on from the line before, whether a pass follows, whether the runtime has cut it in two.
        Gen.Select(Gen.Bool, Gen.Bool, Gen.Int[0, 3], Gen.Int[0, 2]).Array[1, 24].Sample(made =>
        {
            var node = new Node { Plan = new LogsPlan(Joined: true), Listed = Now.AddSeconds(100) };
            foreach (var (i, (stderr, goesOn, pass, part)) in made.Index())
            {
                node.Write($"{(goesOn ? " " : "")}{i};", partial: part == 0, stderr: stderr);
                if (pass == 0)
                    node.Read(seconds: 0.2);
            }
            foreach (var seconds in new[] { 20, 40, 60 })
                node.Read(seconds: seconds);
            node.Got.SelectMany(text => text.Split(['\n', ';', ' '], StringSplitOptions.RemoveEmptyEntries)).Select(int.Parse).Order().ShouldBe(Enumerable.Range(0, made.Length));
        }, iter: 300);
    }

    [Fact]
    public void Files_that_are_rotated_away_before_they_are_read_are_known_to_be_lost()
    {
        var node = new Node();
        node.Write("1");
        node.Read();
        node.Rotate("a");
        node.Write("2");
        node.Read(seconds: 2);
        node.LostAt.ShouldBeNull();
        // Two rotations between two looks, and the runtime keeps none.
        File.Delete(Path.Combine(node.Folder, "0.log.a"));
        node.Write("3");
        File.Delete(Path.Combine(node.Folder, "0.log"));
        node.Write("5");
        node.Read(seconds: 4);
        node.LostAt.ShouldBe(Now.AddSeconds(4));
        node.Got.ShouldBe(["1", "2", "5"]);
        // It is remembered for a while, across a restart of the agent not; what is read on is no loss.
        node.Write("6");
        node.Read(seconds: 60);
        node.LostAt.ShouldBe(Now.AddSeconds(4));
        node.Read(seconds: 200);
        node.LostAt.ShouldBeNull();
        // While the agent was away counts as well.
        File.Delete(Path.Combine(node.Folder, "0.log"));
        node.Write("8");
        node.Restart();
        node.Listed = Now.AddSeconds(301);
        node.Read(seconds: 300);
        node.LostAt.ShouldBe(Now.AddSeconds(300));
    }

    [Fact]
    public void Lines_are_read_across_rotation_in_order()
    {
        var node = new Node();
        node.Write("1");
        node.Read();
        node.Write("2");
        node.Rotate("20261125-010000");
        node.Write("3");
        node.Write("4");
        node.Read();
        node.Read();
        node.Got.ShouldBe(["1", "2", "3", "4"]);
    }

    [Fact]
    public void Lines_the_plan_leaves_out_are_read_but_not_given()
    {
        var node = new Node { Plan = new LogsPlan(LeftOut: [new LineRule("", "door {} closed"), new LineRule("other/workload", "kept {}")]) };
        node.Write("door 7 closed");
        node.Write("kept 1");
        node.Write("door 7 opened");
        node.Read();
        node.Got.ShouldBe(["kept 1", "door 7 opened"]);
        node.Plan = new LogsPlan();
        node.Write("door 8 closed");
        node.Read();
        // What was left out has been read: it does not come back.
        node.Got.ShouldBe(["kept 1", "door 7 opened", "door 8 closed"]);
    }

    [Fact]
    public void Parts_of_a_message_are_joined_each_stream_by_itself_even_across_a_rotation_and_a_restart()
    {
        var node = new Node();
        node.Write("a1 ", partial: true);
        node.Write("b", stderr: true);
        node.Read();
        node.Got.ShouldBeEmpty();
        node.Restart();
        node.Rotate("20261125-010000");
        node.Write("a2");
        node.Write("c");
        node.Read();
        node.Got.ShouldBe(["b", "a1 a2", "c"]);
    }

    [Fact]
    public void A_message_whose_rest_never_comes_is_given_after_a_while()
    {
        var node = new Node();
        node.Write("half", partial: true);
        node.Read();
        node.Read(seconds: 5);
        node.Got.ShouldBeEmpty();
        node.Read(seconds: 11);
        node.Got.ShouldBe(["half"]);
        node.Write("next");
        node.Read(seconds: 12);
        node.Got.ShouldBe(["half", "next"]);
    }

    [Fact]
    public void A_rotated_file_that_was_packed_meanwhile_is_still_read_to_its_end()
    {
        var node = new Node();
        node.Write("1");
        node.Read();
        node.Write("2");
        node.Rotate("20261125-010000");
        var plain = Path.Combine(node.Folder, "0.log.20261125-010000");
        using (var zip = new GZipStream(File.Create(plain + ".gz"), CompressionLevel.Fastest))
            zip.Write(File.ReadAllBytes(plain));
        File.Delete(plain);
        node.Write("3");
        node.Read();
        node.Read();
        node.Got.ShouldBe(["1", "2", "3"]);
    }

    [Fact]
    public void What_was_read_but_not_sealed_is_read_again()
    {
        var node = new Node();
        node.Write("1");
        node.Read(seal: false);
        node.Restart();
        node.Read();
        node.Restart();
        node.Write("2");
        node.Read();
        node.Got.ShouldBe(["1", "2"]);
    }

    [Fact]
    public void Marks_outlive_the_batches_they_came_with()
    {
        var node = new Node();
        node.Write("1");
        node.Read();
        while (node.Buffer.Oldest is { } sent)
            node.Buffer.Remove(sent);
        node.Restart();
        node.Read();
        node.Got.ShouldBe(["1"]);
        Directory.Delete(Path.GetDirectoryName(node.Folder)!, recursive: true);
        Directory.CreateDirectory(Path.Combine(node.Root, "var/log/pods/auction_ledger-2_u2/ledger"));
        node.Read();
        node.Buffer.Marks("log:u1/").ShouldBeEmpty();
    }

    [Fact]
    public void A_log_waits_a_little_for_the_name_of_its_workload()
    {
        var node = new Node { Listed = Now };
        node.Write("1");
        node.Read();
        node.Got.ShouldBeEmpty();
        node.Pods = [new PodState("auction", "ledger-1", "u1", "n1", "Running", null, null, [], "Deployment", "ledger", [], [], Now, null)];
        node.Read(seconds: 2);
        node.Workloads.ShouldBe(["ledger"]);
        // The pod goes before the last of its log was read: its name is still known.
        node.Pods = [];
        node.Write("2");
        node.Read(seconds: 20);
        node.Workloads.ShouldBe(["ledger", "ledger"]);
        // Where the cluster API does not answer, it is read without.
        var silent = new Node { Listed = default };
        silent.Write("1");
        silent.Read();
        silent.Read(seconds: 16);
        silent.Workloads.ShouldBe(["unknown"]);
    }

    [Fact]
    public void Lines_of_a_strange_form_are_counted_and_passed_over()
    {
        var node = new Node();
        node.Write("1");
        File.AppendAllText(Path.Combine(node.Folder, "0.log"), "not of the runtime\n");
        node.Write("2");
        node.Read().ShouldBe(1);
        node.Read().ShouldBe(0);
        node.Got.ShouldBe(["1", "2"]);
    }

    [Fact]
    public void Whatever_happens_in_whatever_order_each_line_is_got_once() => Gen.Int[0, 9].Array[1, 60].Sample(steps =>
    {
        var node = new Node();
        var (written, rotations) = (new List<string>(), 0);
        string? open = null;
        foreach (var step in steps)
            switch (step)
            {
                case 0 or 1 or 2:
                    var text = $"line {written.Count}";
                    node.Write(text);
                    written.Add(open is null ? text : open + text);
                    open = null;
                    break;
                case 3 when open is null:
                    node.Write(open = $"part {written.Count} ", partial: true);
                    break;
                case 4 when File.Exists(Path.Combine(node.Folder, "0.log")):
                    node.Rotate($"20261125-{++rotations:D6}");
                    break;
                case 5:
                    node.Restart();
                    break;
                case 6:
                    node.Read(seal: false);
                    break;
                case 7 when node.Buffer.Oldest is { } oldest:
                    node.Buffer.Remove(oldest);
                    break;
                default:
                    node.Read();
                    break;
            }
        if (open is not null)
        {
            node.Write("end");
            written.Add(open + "end");
        }
        node.Read();
        node.Got.ShouldBe(written);
        Directory.Delete(node.Root, recursive: true);
    }, iter: 300);
}
