-- Rows stay where they are: every earlier version of the service reads them there.
SELECT 1;
