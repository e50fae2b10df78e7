export default "a part";
