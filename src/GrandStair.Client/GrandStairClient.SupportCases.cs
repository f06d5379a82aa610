using System.Net.Http.Json;
using GrandStair.Contracts;

namespace GrandStair.Client;

public sealed partial class GrandStairClient
{
    /// <summary>The cases with the vendor's support, newest first.</summary>
    public Task<Page<SupportCaseView>> SupportCasesAsync(string? machine, string? state, int limit, CancellationToken stop) =>
        AllAsync<SupportCaseView>("support-cases", limit, stop, ("machine", machine), ("state", state));

    /// <summary>One case.</summary>
    public Task<SupportCaseView> SupportCaseAsync(string id, CancellationToken stop) =>
        GetAsync<SupportCaseView>($"support-cases/{Escape(id)}", stop);

    /// <summary>Records a case that was opened with support.</summary>
    public Task<SupportCaseView> OpenSupportCaseAsync(OpenSupportCaseCommand command, CancellationToken stop) =>
        SendAsync<SupportCaseView>(HttpMethod.Post, "support-cases", JsonContent.Create(command), stop);

    /// <summary>Records what was done or said about a case.</summary>
    public Task<SupportCaseView> NoteSupportCaseAsync(string id, NoteSupportCaseCommand command, CancellationToken stop) =>
        SendAsync<SupportCaseView>(HttpMethod.Post, $"support-cases/{Escape(id)}/notes", JsonContent.Create(command), stop);

    /// <summary>Books an appointment for a case, in place of an earlier one.</summary>
    public Task<SupportCaseView> BookAppointmentAsync(string id, BookAppointmentCommand command, CancellationToken stop) =>
        SendAsync<SupportCaseView>(HttpMethod.Put, $"support-cases/{Escape(id)}/appointment", JsonContent.Create(command), stop);

    /// <summary>Cancels the appointment of a case.</summary>
    public Task<SupportCaseView> CancelAppointmentAsync(string id, string reason, CancellationToken stop) =>
        SendAsync<SupportCaseView>(
            HttpMethod.Post,
            $"support-cases/{Escape(id)}/appointment/cancel",
            JsonContent.Create(new Because(reason)),
            stop
        );

    /// <summary>Closes a case with its result.</summary>
    public Task<SupportCaseView> CloseSupportCaseAsync(string id, CloseSupportCaseCommand command, CancellationToken stop) =>
        SendAsync<SupportCaseView>(HttpMethod.Post, $"support-cases/{Escape(id)}/close", JsonContent.Create(command), stop);
}
