DROP TABLE health_hours;
