using Microsoft.Playwright;
using Xunit;

namespace GrandStair.Console.Tests;

/// <summary>Accounts, the audit and what is trusted, in the browser.</summary>
public sealed class AccessTests(DecisionFixture demo) : IClassFixture<DecisionFixture>
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task An_account_is_made_signs_in_with_its_password_and_is_offered_what_it_may()
    {
        var page = await demo.OpenAsync("/access");
        await page.GetByRole(AriaRole.Button, new() { Name = "Add an account" }).ClickAsync();
        await page.GetByLabel("Name", new() { Exact = true }).FillAsync("deck-lead");
        await page.GetByLabel("Why").FillAsync("looks after the ferries");
        await page.GetByRole(AriaRole.Button, new() { Name = "Add it" }).ClickAsync();
        var row = page.Locator("tr", new() { HasText = "deck-lead" });
        await Assertions.Expect(row).ToContainTextAsync("reader");
        await row.GetByRole(AriaRole.Button, new() { Name = "Password" }).ClickAsync();
        await page.GetByLabel("Password", new() { Exact = true }).FillAsync("deck-lead");
        await page.GetByRole(AriaRole.Button, new() { Name = "Set it" }).ClickAsync();
        await Assertions.Expect(page.Locator(".form-error")).ToContainTextAsync("12 to 200 characters");
        await page.GetByLabel("Password", new() { Exact = true }).FillAsync("gulls over the quay");
        await page.GetByRole(AriaRole.Button, new() { Name = "Set it" }).ClickAsync();
        await Assertions.Expect(row).ToContainTextAsync("password");

        await page.GotoAsync(new Uri(demo.Service.Url, "/me").ToString());
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign out" }).ClickAsync();
        await page.GetByLabel("Account").FillAsync("deck-lead");
        await page.GetByLabel("Password", new() { Exact = true }).FillAsync("gulls over the quay");
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in", Exact = true }).ClickAsync();
        await Assertions.Expect(page.Locator(".who")).ToContainTextAsync("deck-lead");
        await Assertions.Expect(page.GetByRole(AriaRole.Link, new() { Name = "Plans" })).ToBeVisibleAsync();
        await Assertions.Expect(page.GetByRole(AriaRole.Link, new() { Name = "Audit" })).ToHaveCountAsync(0);
        await page.GotoAsync(new Uri(demo.Service.Url, "/audit").ToString());
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("Not allowed");
        await Assertions.Expect(page.Locator(".problem")).ToContainTextAsync("needs the role auditor");
        await page.GotoAsync(new Uri(demo.Service.Url, "/machines/desk-1").ToString());
        await Assertions.Expect(page.Locator("h1")).ToContainTextAsync("desk-1");
        await Assertions.Expect(page.GetByRole(AriaRole.Button, new() { Name = "Update readings" })).ToHaveCountAsync(0);

        await demo.Service.Client.EndAccountAsync("deck-lead", "moved ashore", Stop);
        await page.GotoAsync(new Uri(demo.Service.Url, "/plans").ToString());
        await Assertions.Expect(page).ToHaveURLAsync(new System.Text.RegularExpressions.Regex("/sign-in"));
    }

    [Fact]
    public async Task The_audit_shows_who_did_what_is_filtered_and_checked()
    {
        await demo.Service.Client.PutSecretAsync("directory-reader", "berth-seven-at-dusk", Stop);
        var page = await demo.OpenAsync("/audit");
        await page.GetByRole(AriaRole.Textbox, new() { Name = "Command", Exact = true }).FillAsync("secret");
        await page.GetByRole(AriaRole.Button, new() { Name = "Apply filter" }).ClickAsync();
        await Assertions.Expect(page.Locator("tbody tr", new() { HasText = "directory-reader" })).ToHaveCountAsync(1);
        await Assertions.Expect(page.Locator("tbody tr").Filter(new() { HasNotText = "secret" })).ToHaveCountAsync(0);
        Assert.DoesNotContain("berth-seven-at-dusk", await page.ContentAsync(), StringComparison.Ordinal);
        await page.GetByRole(AriaRole.Button, new() { Name = "Verify integrity" }).ClickAsync();
        await Assertions.Expect(page.Locator(".told")).ToContainTextAsync("is unchanged");
    }

    [Fact]
    public async Task A_secret_is_put_encrypted_anew_and_taken_away_and_shown_to_nobody()
    {
        var page = await demo.OpenAsync("/access/secrets");
        await page.GetByRole(AriaRole.Button, new() { Name = "Add secret" }).ClickAsync();
        var keep = page.GetByRole(AriaRole.Button, new() { Name = "Save" });
        await page.GetByLabel("Name", new() { Exact = true }).FillAsync("Fleet Key");
        await Assertions.Expect(keep).ToBeDisabledAsync();
        await page.GetByLabel("Secret", new() { Exact = true }).FillAsync("gulls-over-the-quay");
        await keep.ClickAsync();
        await Assertions.Expect(page.Locator(".form-error")).ToContainTextAsync("expected");
        await page.GetByLabel("Name", new() { Exact = true }).FillAsync("fleet-key");
        await keep.ClickAsync();
        var row = page.Locator("tbody tr", new() { HasText = "fleet-key" });
        await Assertions.Expect(row).ToContainTextAsync("never");
        await page.GetByRole(AriaRole.Button, new() { Name = "Rotate encryption key" }).ClickAsync();
        await Assertions.Expect(page.Locator(".told")).ToContainTextAsync("encrypted with a new key");
        Assert.DoesNotContain("gulls-over-the-quay", await page.ContentAsync(), StringComparison.Ordinal);
        await page.GetByRole(AriaRole.Button, new() { Name = "Delete fleet-key" }).ClickAsync();
        await page.GetByLabel("Why").FillAsync("the fleet has another");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Delete" }).ClickAsync();
        await Assertions.Expect(row).ToHaveCountAsync(0);
        Assert.DoesNotContain(await demo.Service.Client.SecretsAsync(Stop), x => x.Name == "fleet-key");
    }

    [Fact]
    public async Task A_token_is_shown_once_and_ended()
    {
        var page = await demo.OpenAsync("/me");
        await page.GetByRole(AriaRole.Button, new() { Name = "Create token" }).ClickAsync();
        await page.GetByLabel("What it is for").FillAsync("the wall screen");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Create" }).ClickAsync();
        var secret = (await page.Locator(".told code").TextContentAsync())!;
        using var client = new Client.GrandStairClient(demo.Service.Url, secret);
        Assert.Equal("admin", (await client.SessionAsync(Stop)).Actor);
        await page.ReloadAsync();
        var row = page.Locator("tr", new() { HasText = "the wall screen" });
        await Assertions.Expect(row).ToBeVisibleAsync();
        Assert.DoesNotContain(secret, await page.ContentAsync(), StringComparison.Ordinal);
        await row.GetByRole(AriaRole.Button).ClickAsync();
        await page.GetByLabel("Why").FillAsync("the screen is gone");
        await page.GetByRole(AriaRole.Button, new() { Name = "Revoke token" }).ClickAsync();
        await Assertions.Expect(row).ToHaveCountAsync(0);
        Assert.Equal(401, (await Assert.ThrowsAsync<Client.ServiceException>(() => client.SessionAsync(Stop))).Status);
    }
}
