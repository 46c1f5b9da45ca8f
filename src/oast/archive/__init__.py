"""The estate's history, through the real `git`: the commit a change was made from, and backups of devices."""
