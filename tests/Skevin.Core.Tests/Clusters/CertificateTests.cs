using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Skevin.Core.Clusters;

namespace Skevin.Core.Tests.Clusters;

public sealed class CertificateTests
{
    private static readonly DateTimeOffset Now = DateTimeOffset.Parse("2026-11-24T08:00:00Z");

    private static string Pem(int fromDays, int untilDays, params string[] names)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=x", key, HashAlgorithmName.SHA256);
        var alternative = new SubjectAlternativeNameBuilder();
        foreach (var name in names)
            alternative.AddDnsName(name);
        request.CertificateExtensions.Add(alternative.Build());
        using var certificate = request.CreateSelfSigned(Now.AddDays(fromDays), Now.AddDays(untilDays));
        return certificate.ExportCertificatePem();
    }

    private static CertificateState Judge(string? pem, params string[] hosts) => Certificates.Judge("edge", "gate-tls", hosts, pem, Now);

    [Theory]
    [InlineData(-90, 30, HealthLevel.Clear, null)]
    [InlineData(-90, 3, HealthLevel.Minor, "in 3 d")]
    [InlineData(-90, -1, HealthLevel.Critical, "expired on 2026-11-23 08:00 UTC")]
    [InlineData(1, 30, HealthLevel.Critical, "not valid before 2026-11-25 08:00 UTC")]
    public void Its_dates_are_looked_at(int from, int until, HealthLevel level, string? says)
    {
        var judged = Judge(Pem(from, until, "bids.larkfield.example"), "bids.larkfield.example");
        (judged.Level, judged.NotAfter).ShouldBe((level, Now.AddDays(until)));
        if (says is null)
            judged.Trouble.ShouldBeNull();
        else
            judged.Trouble.ShouldNotBeNull().ShouldContain(says);
    }

    // A wildcard stands for one label. Source: RFC 6125 section 6.4.3.
    [Theory]
    [InlineData("bids.larkfield.example", true)]
    [InlineData("a.bids.larkfield.example", false)]
    [InlineData("larkfield.example", false)]
    public void Its_names_are_looked_at(string host, bool covers) => (Judge(Pem(-1, 60, "*.larkfield.example"), host).Trouble is null).ShouldBe(covers);

    [Fact]
    public void A_secret_that_is_missing_or_holds_something_else_is_named()
    {
        Judge(null).Trouble.ShouldNotBeNull().ShouldContain("not there");
        Judge("").Trouble.ShouldNotBeNull().ShouldContain("no certificate");
        Judge("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----").Level.ShouldBe(HealthLevel.Critical);
        var entry = new EntryPointState("edge", "gate", "", [], [], Now) { Certificates = [new("gate-tls", ["h"])] };
        ObjectHealth.Of(entry, Inventory.Empty with { Certificates = [Judge(null)] }).Level.ShouldBe(HealthLevel.Critical);
        ObjectHealth.Of(entry, Inventory.Empty).Level.ShouldBe(HealthLevel.Clear);
    }
}
