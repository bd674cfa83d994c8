DROP TABLE messages;
DROP TABLE alert_history;
DROP TABLE alerts;
