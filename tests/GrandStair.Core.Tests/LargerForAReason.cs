namespace GrandStair.Core.Tests;

/// <summary>What is larger than <see cref="SizeTests"/> allows, and why it is better so.</summary>
internal static class LargerForAReason
{
    /// <summary>Methods with more lines.</summary>
    public static readonly (string Why, string[] Names)[] Lines =
    [
        (
            "It lists a feature's routes, one after another, each with its roles and its documentation.",
            [
                "PlanEndpoints.MapPlans",
                "RehearsalEndpoints.MapRehearsals",
                "ScheduleEndpoints.MapSchedules",
                "SessionEndpoints.MapSession",
                "ShareLinkEndpoints.MapShareLinks",
                "ProviderSchemes.AddProvider",
            ]
        ),
        (
            "It declares the options of one command and what the command does with them.",
            ["AuditCommands.Verify", "FleetCommands.Import", "PlanCommands.Rehearse"]
        ),
        (
            "It writes one page or file, whose parts follow each other.",
            ["MachineCommands.PrintGate", "ReadinessReport.WriteHtml", "RunEvidence.WriteAsync", "SlotReport.Html"]
        ),
        (
            "It is one transaction, whose statements have to stay in their order.",
            ["FleetTable.TakeAsync", "RemovalTable.PutBackAsync", "RemovalTable.UndoAsync"]
        ),
        (
            "It reads one format, field by field, and says what is wrong with each.",
            ["BoundedCalendar.Load", "CalendarText.Read", "CatalogueFolder.CheckTogether", "FleetFile.MachineOf", "ProviderFile.Parse"]
        ),
        ("It gathers what one page shows, part by part.", ["ScheduleEndpoints.BoardAsync"]),
        ("It lists cases, one entry each.", ["Board.Explain", "Knob.All", "OverviewEndpoints.InTheWay"]),
        (
            "It is one algorithm whose parts share what was found so far.",
            [
                "MachineReader.ReadAsync",
                "MethodChoice.Choose",
                "Prepared.new",
                "RehearsalCases.OfAsync",
                "Search.WithParts",
                "SlotPlacer.Best",
            ]
        ),
        (
            "It takes one thing from its first byte to its result, and undoes what it began where a part fails.",
            ["ImportEndpoints.ImportAsync", "SourceReader.TakeAsync", "SshConnection.ConnectAsync"]
        ),
    ];

    /// <summary>Methods with more parameters.</summary>
    public static readonly (string Why, string[] Names)[] Parameters =
    [
        (
            "It writes one row, and takes its columns beside the connection and the transaction.",
            ["AccountTable.ChangedAsync", "AuditTable.AddAsync", "DecisionTable.DecidedAsync", "RehearsalTable.InsertAsync"]
        ),
        (
            "It is an endpoint: the framework hands it each part of the request and each service by itself.",
            [
                "FleetEndpoints.RestoreAsync",
                "ImportEndpoints.ImportAsync",
                "OverviewEndpoints.ShowAsync",
                "ScheduleEndpoints.BoardAsync",
                "ScheduleEndpoints.LoadAsync",
                "ShareLinkEndpoints.MakeAsync",
                "TimeEndpoints.TimesAsync",
            ]
        ),
    ];

    /// <summary>Classes with more collaborators.</summary>
    public static readonly (string Why, string[] Names)[] Collaborators =
    [
        ("It starts everything that goes on in the background.", ["EngineHost"]),
        ("It plays the demo's people, who use every part of the product.", ["NorthmerePeople"]),
        (
            "It carries out whatever a run or a plan asks for, and each kind of order needs something else.",
            ["CheckRunner", "PlanCommands", "PlanKeeper", "RunWorker"]
        ),
        ("It gathers from many tables what a decision in the core is made by.", ["PlanFactsReader", "RehearsalRunner", "SourceReader"]),
    ];
}
