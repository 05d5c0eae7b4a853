"""Reports: pages and workbooks to send on."""
