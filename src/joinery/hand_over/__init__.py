"""Everything that is handed over: the short page, the report, the workbook, formulas."""
