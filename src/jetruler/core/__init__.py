"""The computation: laws, rulers, readings, quantities. No file, terminal, plot or network here."""
