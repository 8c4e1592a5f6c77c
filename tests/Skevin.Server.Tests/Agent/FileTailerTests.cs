using System.Net;
using CsCheck;
using Skevin.Agent;
using Skevin.Agent.Buffer;
using Skevin.Agent.Collection;

namespace Skevin.Server.Tests.Agent;

/// <summary>Log files of a machine, read across rotation, cutting short and restarts: each line once, none lost.</summary>
public sealed class FileTailerTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.FromUnixTimeSeconds(1_795_000_000);

    private sealed class Machine
    {
        private FileTailer _tailer = null!;
        private DiskBuffer _buffer = null!;

        public Machine()
        {
            Root = Directory.CreateTempSubdirectory("skevin-machine").FullName;
            Directory.CreateDirectory(Path.Combine(Root, "var/log/ledger"));
            Restart();
        }

        public string Root { get; }
        public List<string> Got { get; } = [];
        public List<DateTimeOffset> Times { get; } = [];
        public string? Error { get; private set; }

        public string At(string name) => Path.Combine(Root, "var/log/ledger", name);
        public void Write(string text, string name = "a.log") => File.AppendAllText(At(name), text);

        public void Restart()
        {
            _buffer = new DiskBuffer(Path.Combine(Root, "buffer"));
            _tailer = new FileTailer(new AgentEnvironment(AgentRole.Machine, "weighbridge", "", "", "", "", null, new Uri("http://127.0.0.1"), "", Root, IPAddress.Loopback, 0, 0, null, TimeProvider.System), _buffer);
        }

        /// <summary>One pass; sealed, or as if killed before.</summary>
        public void Read(bool seal = true, string pattern = "/var/log/ledger/*.log")
        {
            foreach (var (lines, error) in _tailer.Read([pattern], Now))
            {
                Error = error;
                if (!seal)
                    continue;
                _buffer.Seal("logs", "x"u8, [], lines.Marks);
                Got.AddRange(lines.Records.ScopeLogs[0].LogRecords.Select(record => record.Body.StringValue));
                Times.AddRange(lines.Records.ScopeLogs[0].LogRecords.Select(record => DateTimeOffset.UnixEpoch.AddTicks((long)record.TimeUnixNano / 100)));
            }
        }
    }

    [Fact]
    public void What_is_there_at_first_is_left_and_what_comes_later_is_read_whole()
    {
        var machine = new Machine();
        machine.Write("old 1\nold 2\n");
        machine.Read();
        machine.Got.ShouldBeEmpty();
        machine.Write("new 1\nnew");
        machine.Write("other 1\n", "b.log");
        machine.Read();
        machine.Got.ShouldBe(["new 1", "other 1"]);
        machine.Restart();
        machine.Write(" 2\n");
        machine.Read();
        machine.Got[2..].ShouldBe(["new 2"]);
    }

    [Fact]
    public void Rotated_and_cut_files_are_read_to_their_end()
    {
        var machine = new Machine();
        machine.Read();
        machine.Write("1\n");
        machine.Read();
        machine.Write("2\n");
        File.Move(machine.At("a.log"), machine.At("a.log.1"));
        machine.Write("3\n");
        machine.Read();
        machine.Got.ShouldBe(["1", "2", "3"]);
        machine.Write("4\n");
        machine.Read();
        // Copied elsewhere and cut to nothing, as some tools rotate.
        File.Copy(machine.At("a.log"), machine.At("copy"));
        File.WriteAllText(machine.At("a.log"), "");
        machine.Write("5\n");
        machine.Read();
        machine.Got.ShouldBe(["1", "2", "3", "4", "5"]);
    }

    [Fact]
    public void Moved_files_are_not_read_twice_whatever_the_pattern_and_those_packed_meanwhile_are_read()
    {
        var machine = new Machine();
        machine.Write("0\n", "a.log.1");
        machine.Write("00\n");
        machine.Read(pattern: "/var/log/ledger/a*");
        machine.Write("1\n2\n");
        machine.Read(pattern: "/var/log/ledger/a*");
        machine.Write("3\n");
        using (var packed = new System.IO.Compression.GZipStream(File.Create(machine.At("a.log.2.gz")), System.IO.Compression.CompressionLevel.Fastest))
            packed.Write(File.ReadAllBytes(machine.At("a.log")));
        File.Delete(machine.At("a.log"));
        machine.Write("4\n");
        machine.Read(pattern: "/var/log/ledger/a*");
        machine.Read(pattern: "/var/log/ledger/a*");
        machine.Got.ShouldBe(["1", "2", "3", "4"]);
        // Two that begin alike cannot be told apart, and that is said.
        machine.Write("4\n", "a.log.3");
        machine.Read(pattern: "/var/log/ledger/a*");
        machine.Error!.ShouldContain("begin with the same line");
    }

    [Fact]
    public void What_a_kill_kept_from_the_disk_is_read_again_and_nothing_else()
    {
        var machine = new Machine();
        machine.Read();
        machine.Write("1\n");
        machine.Read();
        machine.Write("2\n");
        machine.Read(seal: false);
        machine.Restart();
        machine.Read();
        machine.Got.ShouldBe(["1", "2"]);
    }

    [Fact]
    public void A_missing_file_is_told_and_times_are_taken_from_the_lines()
    {
        var machine = new Machine();
        machine.Read(pattern: "/var/log/none/*.log");
        machine.Error.ShouldBe("no file is there under /var/log/none/*.log");
        machine.Read();
        machine.Write("2026-05-12T05:59:00.25Z WARN slow\nplain\n{\"time\":\"2026-05-12T07:59:01+02:00\",\"msg\":\"said\"}\n");
        machine.Read();
        machine.Error.ShouldBeNull();
        machine.Times.ShouldBe([new(2026, 5, 12, 5, 59, 0, 250, TimeSpan.Zero), Now, new(2026, 5, 12, 5, 59, 1, TimeSpan.Zero)]);
        machine.Got[2].ShouldBe("said");
    }

    [Fact]
    public void Whatever_happens_in_whatever_order_each_line_is_read_once() =>
        Gen.Int[0, 4].List[1, 40].Sample(acts =>
        {
            var machine = new Machine();
            machine.Read();
            var (written, rotations) = (new List<string>(), 0);
            foreach (var act in acts)
                switch (act)
                {
                    case 0 or 1:
                        written.Add("line " + written.Count);
                        machine.Write(written[^1] + "\n");
                        break;
                    case 2 when File.Exists(machine.At("a.log")):
                        File.Move(machine.At("a.log"), machine.At($"a.log.{++rotations}"));
                        // Times of files are what orders them; two moves within a tick of the clock do not happen outside of tests.
                        File.SetLastWriteTimeUtc(machine.At($"a.log.{rotations}"), Now.UtcDateTime.AddSeconds(rotations));
                        break;
                    case 3:
                        machine.Read();
                        break;
                    case 4:
                        machine.Read(seal: false);
                        machine.Restart();
                        break;
                }
            // The last file of all is there, so that what was rotated last is looked for.
            machine.Write("end\n");
            machine.Read();
            machine.Read();
            Directory.Delete(machine.Root, recursive: true);
            return machine.Got.SequenceEqual(written.Append("end"));
        }, iter: 150);
}
