import { mount as mountSaving } from "../components/saving_forms.js";

mountSaving();
