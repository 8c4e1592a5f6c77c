using System.Globalization;
using System.Runtime.InteropServices;
using Skevin.StandIn;

string Setting(string variable, string fallback) => Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value : fallback;
var port = int.Parse(Setting("SKEVIN_PRACTICE_PORT", "5190"), CultureInfo.InvariantCulture);
var hours = double.Parse(Setting("SKEVIN_PRACTICE_HISTORY_HOURS", "6"), CultureInfo.InvariantCulture);
var days = double.Parse(Setting("SKEVIN_PRACTICE_HISTORY_DAYS", "14"), CultureInfo.InvariantCulture);
var folder = Path.Combine(Setting("SKEVIN_HOME", ".local"), "stand-in");
await using var host = await StandInHost.Start(new StandInOptions(folder, port, TimeSpan.FromHours(hours), TimeSpan.FromDays(days)));
Console.WriteLine($"stand-in clusters on ports {port} and {port + 1}, control on {port + 3}");
var ended = new TaskCompletionSource();
using var term = PosixSignalRegistration.Create(PosixSignal.SIGTERM, context => { context.Cancel = true; ended.TrySetResult(); });
using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, context => { context.Cancel = true; ended.TrySetResult(); });
await ended.Task;
