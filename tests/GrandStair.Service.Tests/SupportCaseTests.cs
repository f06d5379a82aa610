using System.IO.Compression;
using GrandStair.Contracts;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Cases with the vendor's support, as administrators keep them beside their machines.</summary>
public sealed class SupportCaseTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private ServiceProcess Service => fleet.Service;

    [Fact]
    public async Task A_case_about_several_machines_is_recorded_noted_listed_packed_for_support_and_closed_with_its_result()
    {
        var opened = await Service.OkAsync([
            "case",
            "open",
            "desk-2",
            "desk-4",
            "--number",
            "NM-40117",
            "--with",
            "the vendor",
            "--about",
            "chip off after each restart",
        ]);
        Assert.Contains("number NM-40117 with the vendor: with support", opened, StringComparison.Ordinal);
        var id = (await Service.Client.SupportCasesAsync("desk-4", null, 10, Stop)).Items.Single().Id;
        var twice = await Service.GstairAsync([
            "case",
            "open",
            "desk-1",
            "--number",
            "nm-40117",
            "--with",
            "The Vendor",
            "--about",
            "the same again",
        ]);
        Assert.Equal(
            (3, true),
            (twice.Exit, twice.Error.Contains($"Case {id} is open under the number NM-40117", StringComparison.Ordinal))
        );

        await Service.OkAsync("case", "note", id, "They ask for the bundle", "--state", "with-us");
        Assert.Contains(
            "chip off after each restart",
            await Service.OkAsync("case", "list", "--state", "with-us"),
            StringComparison.Ordinal
        );
        Assert.Equal(["desk-2", "desk-4"], (await Service.Client.SupportCaseAsync(id, Stop)).Machines);
        await using (var pack = await Service.Client.ReferralAsync("desk-2", Stop))
        using (var zip = new ZipArchive(pack))
        using (var report = new StreamReader(zip.GetEntry("report.html")!.Open()))
            Assert.Contains("They ask for the bundle", await report.ReadToEndAsync(Stop), StringComparison.Ordinal);

        Assert.Contains("a new board", await Service.OkAsync("case", "close", id, "--result", "a new board"), StringComparison.Ordinal);
        var late = await Service.GstairAsync("case", "note", id, "again");
        Assert.Equal((3, true), (late.Exit, late.Error.Contains("was closed", StringComparison.Ordinal)));
        Assert.Empty((await Service.Client.SupportCasesAsync("desk-4", "with-us", 10, Stop)).Items);
        Assert.Contains("a new board", await Service.OkAsync("audit", "list", "--machine", "desk-4"), StringComparison.Ordinal);
        Assert.Equal(4, (await Service.GstairAsync("case", "show", "c99")).Exit);
    }

    [Fact]
    public async Task An_account_sees_its_own_machines_of_a_case_and_changes_none_that_is_about_others_too()
    {
        var id = (await Service.Client.OpenSupportCaseAsync(new("NM-5", "the vendor", "slow", ["desk-1", "desk-3"]), Stop)).Id;
        var token = await Calls.AccountAsync(Service, "quay-hand", ["reader", "operator"], "Westhaven");
        var seen = await Calls.JsonAsync(Service, "GET", $"/api/v1/support-cases/{id}", token);
        Assert.Equal("desk-1", seen.GetProperty("machines").EnumerateArray().Single().GetString());
        using var refused = await Calls.SendAsync(
            Service,
            "POST",
            $"/api/v1/support-cases/{id}/close",
            token,
            """{"result":"fine"}""",
            ("Content-Type", "application/json")
        );
        Assert.Equal(403, (int)refused.StatusCode);
        var elsewhere = (await Service.Client.OpenSupportCaseAsync(new("NM-6", "the vendor", "slow", ["desk-3"]), Stop)).Id;
        using var unknown = await Calls.SendAsync(Service, "GET", $"/api/v1/support-cases/{elsewhere}", token);
        Assert.Equal(404, (int)unknown.StatusCode);
    }

    [Fact]
    public async Task An_appointment_takes_a_hand_of_its_crew_so_that_no_upgrade_gets_it_and_is_refused_where_none_is_free()
    {
        var own = await fleet.OwnMachinesAsync("crewed");
        await Service.OkAsync(
            "fleet",
            "import",
            Service.Write("name,owner,connection\ncrewed-1,quay,simulated\ncrewed-2,quay,simulated\n", "owners.csv")
        );
        await Service.OkAsync(
            "plan",
            "create",
            Service.Write(
                SmallFleet
                    .Plan.Replace("plan: small", "plan: crewed", StringComparison.Ordinal)
                    .Replace("image-in-place", "carried-media", StringComparison.Ordinal)
                    .Replace("methods: [update-channel, ", "methods: [", StringComparison.Ordinal)
                    .Replace(
                        "waves: [{ name: Pilot, members: tag = \"pilot\" }, { name: Rest }]",
                        "waves: [{ name: All }]",
                        StringComparison.Ordinal
                    )
                    .Replace(own.From, own.To, StringComparison.Ordinal)
                    + "\ncrews: [{ name: shore, kind: terminal-it, hands: 1, zone: Europe/London, weekly: [\"Mon-Sun 00:00-00:00\"] }]\n",
                "crewed.yaml"
            )
        );
        var id = (await Service.Client.OpenSupportCaseAsync(new("NM-8", "the vendor", "its lid", ["crewed-3"]), Stop)).Id;
        var from = DateTimeOffset.UtcNow.AddHours(1);
        from = from.AddTicks(-(from.Ticks % TimeSpan.TicksPerMinute));
        var booked = await Service.Client.BookAppointmentAsync(id, new(from, 240, "shore"), Stop);
        Assert.Equal(new AppointmentView(from, from.AddHours(4), "shore", "crewed", false), booked.Appointment);

        await Service.OkAsync("plan", "acknowledge", "crewed", "--all", "--reason", "read");
        await Service.OkAsync("plan", "start", "crewed");
        MemberRow[] going = [];
        await Eventually.TrueAsync(
            async () =>
                (
                    going = [
                        .. (await Service.Client.MembersAsync("crewed", null, null, null, 10, Stop)).Items.Where(m =>
                            m.SlotStart is not null
                        ),
                    ]
                ).Length == 2,
            TimeSpan.FromMinutes(1),
            () => "two machines have a slot"
        );
        Assert.All(going, m =>
            Assert.True(m.Crew == "shore" && (m.SlotEnd <= from || m.SlotStart >= from.AddHours(4)), $"{m.Name}: {m.SlotStart:u}")
        );

        var other = (await Service.Client.OpenSupportCaseAsync(new("NM-9", "the vendor", "its lid", ["crewed-3"]), Stop)).Id;
        var full = await Service.GstairAsync("case", "book", other, "--from", $"{from:O}", "--crew", "shore");
        Assert.Equal((3, true), (full.Exit, full.Error.Contains("Crew 'shore' is not free for 60 minutes from", StringComparison.Ordinal)));
        Assert.Contains("it next is from", full.Error, StringComparison.Ordinal);
        var none = await Service.GstairAsync("case", "book", other, "--from", $"{from:O}", "--crew", "north");
        Assert.Contains("Plan 'crewed' has no crew 'north'; it has shore.", none.Error, StringComparison.Ordinal);
        // The case itself may move within its own hours, and gives them back when its appointment is cancelled.
        await Service.OkAsync("case", "book", id, "--from", $"{from.AddHours(1):O}", "--crew", "shore");
        await Service.OkAsync("case", "cancel-appointment", id, "--reason", "support does it from afar");
        await Service.OkAsync("case", "book", other, "--from", $"{from.AddHours(1):O}", "--crew", "shore");
    }
}
