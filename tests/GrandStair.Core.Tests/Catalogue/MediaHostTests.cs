using GrandStair.Core.Catalogue;
using GrandStair.Core.Refusals;
using Xunit;

namespace GrandStair.Core.Tests.Catalogue;

public sealed class MediaHostTests
{
    [Theory]
    [InlineData("downloads.example", "https://downloads.example/a.img", true)]
    [InlineData("Downloads.Example ", "http://DOWNLOADS.example:8080/a.img", true)]
    [InlineData("downloads.example:8443", "https://downloads.example:8443/a.img", true)]
    [InlineData("downloads.example:8443", "https://downloads.example/a.img", false)]
    [InlineData("downloads.example", "https://sub.downloads.example/a.img", false)]
    [InlineData("downloads.example", "https://downloads.example.elsewhere.example/a.img", false)]
    [InlineData("downloads.example", "https://downloads.example@elsewhere.example/a.img", false)]
    [InlineData("", "https://downloads.example/a.img", false)]
    public void A_host_is_allowed_by_its_whole_name_on_any_port_or_on_one(string names, string url, bool allowed) =>
        Assert.Equal(allowed, MediaHosts.Parse(names.Split(',')).Allow(new(url)));

    [Theory]
    [InlineData("https://downloads.example")]
    [InlineData("downloads.example/images")]
    [InlineData("me@downloads.example")]
    [InlineData("two words")]
    [InlineData("*.example")]
    public void What_is_no_host_is_refused(string name) => Assert.Throws<RefusedException>(() => MediaHosts.Parse([name]));
}
