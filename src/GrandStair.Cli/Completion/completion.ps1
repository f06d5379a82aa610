# Completes gstair's commands, options, names and conditions in PowerShell: gstair completion powershell | Out-String | Invoke-Expression
Register-ArgumentCompleter -Native -CommandName gstair -ScriptBlock {
    param($word, $command, $cursor)
    $before = @($command.CommandElements | Where-Object { $_.Extent.EndOffset -lt $cursor } | Select-Object -Skip 1 | ForEach-Object { $_.ToString().Trim('"', "'") })
    & $command.CommandElements[0].ToString() complete "--word=$word" -- @before 2>$null | ForEach-Object {
        [System.Management.Automation.CompletionResult]::new($_.TrimEnd())
    }
}
