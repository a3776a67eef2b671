"""The one screen around the views: where one is, the commands, and what always shows the place."""
