"""Results as files: charts, pages, calendars."""
