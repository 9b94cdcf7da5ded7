DROP TABLE exchanges;
ALTER TABLE apps DROP COLUMN apology;
ALTER TABLE apps DROP COLUMN reply_hook;
