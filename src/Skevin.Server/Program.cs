using Skevin.Server.Setup;

try
{
    await using var app = SkevinApp.Build(args);
    await app.Services.GetRequiredService<Preparation>().Run(app.Lifetime.ApplicationStopping);
    await app.RunAsync();
    return 0;
}
catch (InvalidOperationException wrong)
{
    Console.Error.WriteLine("skevin cannot start: " + wrong.Message);
    return 2;
}
